// What the drivers of mounted filesystems are asked and told.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/statvfs.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <csignal>
#include <thread>

#include "core/base/errors.h"
#include "core/live/linux_kernel.h"
#include "core/live/mounted_kinds.h"

namespace jh::live {
namespace {

// What a mount's point leads to is looked at again when it is used: something may lie over it now.
Descriptor open_mount(const Mount& mount) {
  Descriptor place = opened(mount.point, O_RDONLY | O_DIRECTORY);
  const auto reached = mount_number(*place);
  if (reached && mount.number != 0 && *reached != mount.number)
    refuse("another filesystem is mounted over it by now", mount.point,
           "mount it at another place too, or unmount what lies over it");
  return place;
}

}  // namespace

// The kernel does not tell; it lets whoever writes wait, and not be ended. So another process makes
// a file without a name, which goes with it, and this one does not wait for long. If it does not
// come back, it ends when the filesystem is thawed.
void LinuxKernel::check_takes_writes(const Mount& mount) {
  const Descriptor place(open_mount(mount));
  const pid_t probe = ::fork();
  if (probe < 0) failed("no process can be started", mount.point);
  if (probe == 0) {
    ::openat(*place, ".", O_TMPFILE | O_WRONLY | O_CLOEXEC, 0600);
    ::_exit(0);
  }
  for (int tries = 0; tries < 300; ++tries) {
    if (::waitpid(probe, nullptr, WNOHANG) != 0) return;
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  ::kill(probe, SIGKILL);
  refuse("the filesystem is frozen: whoever writes to it has to wait", mount.point,
         "whoever froze it, a backup or a snapshot being made, has to thaw it; then run again");
}

MountedSize LinuxKernel::size_of(const Mount& mount) {
  MountedSize found;
  struct statvfs facts {};
  const Descriptor point(open_mount(mount));
  if (::fstatvfs(*point, &facts) != 0) failed("its driver says nothing", mount.point);
  found.size = facts.f_blocks * facts.f_frsize;
  found.used = (facts.f_blocks - facts.f_bfree) * facts.f_frsize;
  found.block = facts.f_frsize;
  if (const MountedKind* kind = mounted_kind(mount.kind))
    kind->ask(*point, mount, found);
  else
    found.cannot_grow = "the driver of " + mount.kind + " does not do that";
  return found;
}

void LinuxKernel::grow(const Mount& mount, std::uint64_t size) {
  const MountedKind* kind = mounted_kind(mount.kind);
  ensure(kind != nullptr, "only what its driver can make larger is to grow");
  const Descriptor fd(open_mount(mount));
  kind->grow(*fd, mount, size, size_of(mount).block);
  ::syncfs(*fd);
}

}  // namespace jh::live

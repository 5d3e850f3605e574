#include "core/store/copy.h"

#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/ioctl.h>

#include "core/base/sizes.h"
#include "core/store/host.h"

namespace jh {
namespace {

std::uint64_t data_bytes(Store& from) {
  std::uint64_t total = 0;
  for (std::uint64_t at = 0; at < from.size();) {
    const Range run = from.map(at, from.size() - at);
    if (!run.zero) total += run.length;
    at += run.length;
  }
  return total;
}

void copy_runs(Store& from, Store& to, Progress& progress) {
  constexpr std::uint64_t piece = 4U << 20;
  Buffer buffer(piece);
  std::uint64_t done = 0;
  for (std::uint64_t at = 0; at < from.size();) {
    const Range run = from.map(at, from.size() - at);
    if (run.zero) {
      at += run.length;
      continue;
    }
    const std::uint64_t step = std::min(piece, run.length);
    const ByteSpan part = ByteSpan(buffer).first(step);
    from.read(at, part);
    to.write(at, part);
    at += step;
    done += step;
    progress.advance(done);
  }
}

}  // namespace

Transferred copy_image(const std::string& from_path, const std::string& to_path, Sharing sharing,
                       Progress& progress, const std::string& what) {
  FileHost host;
  if (host.exists(to_path))
    refuse(fmt::format("the {}'s name is taken already", what), to_path,
           "choose another name, or move it away");
  FileStore from(from_path, Access::read_only);
  const auto to = FileStore::create(to_path);
  try {
    to->resize(from.size());
    Transferred done;
    const std::uint64_t needed = data_bytes(from);
    if (sharing == Sharing::automatic &&
        ::ioctl(to->descriptor(), FICLONE, from.descriptor()) == 0) {
      done.shared = needed;
    } else {
      done.copied = needed;
      const std::uint64_t free = host.free_space(to_path);
      if (needed > free)
        refuse(fmt::format("the {} needs {}, but the host has only {} free there", what,
                           human(Bytes(needed)), human(Bytes(free))),
               to_path, "make room, or put it elsewhere");
      progress.begin("copying to " + to_path, needed);
      copy_runs(from, *to, progress);
      progress.end();
    }
    to->flush();
    host.copy_owner_and_mode(to_path, from_path);
    return done;
  } catch (const Error&) {
    remove_quietly(host, to_path);
    throw;
  }
}

}  // namespace jh

#include "core/live/running_filesystem.h"

#include <fmt/format.h>

#include "core/base/ranges.h"
#include "core/live/mounted_kinds.h"

namespace jh::live {

RunningFilesystem::RunningFilesystem(KernelFacts& kernel, Mount mount, MountedSize size)
    : kernel_(kernel), mount_(std::move(mount)), size_(std::move(size)) {}

Bytes RunningFilesystem::usable(Bytes place_size) const {
  return Bytes(round_down(place_size.value(), std::max<std::uint64_t>(size_.block, 512)));
}

std::optional<std::string> RunningFilesystem::read_text(const std::string& path,
                                                        std::uint64_t limit) {
  if (mount_.point != "/") return std::nullopt;
  return kernel_.read_text(path, limit);
}

FilesystemFloor RunningFilesystem::floor() { return {size(), "it is mounted"}; }

ResizePlan RunningFilesystem::plan_resize(Bytes wanted) {
  ResizePlan plan;
  plan.from = plan.to = size();
  if (wanted < size())
    refuse("nothing is made smaller in a running system", mount_.point,
           "shut it down, and change its disk from outside");
  if (!size_.cannot_grow.empty())
    unsupported(
        fmt::format("{} cannot grow while it is mounted: {}", mount_.point, size_.cannot_grow),
        mount_.source, "shut the system down, and grow its disk from outside");
  // Below that the driver refuses whatever is asked for.
  const MountedKind* kind = mounted_kind(mount_.kind);
  if (const Bytes least = kind == nullptr ? Bytes(0) : kind->least; usable(wanted) < least)
    unsupported(
        fmt::format("{} cannot grow to {}: its driver makes none larger that stays below {}",
                    mount_.point, human(usable(wanted)), human(least)),
        mount_.source, "give it more, or shut the system down and grow it from outside");
  if (mount_.read_only)
    refuse(fmt::format("{} is mounted read-only", mount_.point), mount_.source,
           "mount it to be written to first; if the system did that by itself, look into its log");
  plan.to = std::max(usable(wanted), size());
  plan.words = fmt::format("let its driver make it larger, mounted as it is");
  return plan;
}

}  // namespace jh::live

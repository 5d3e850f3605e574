#include "core/proof/snapshots.h"

#include <fmt/format.h>

#include "core/base/checksum.h"
#include "core/proof/verdict.h"

namespace jh {
namespace {

// All ranges that snapshots rely on, in the order in which their tables name them.
std::pair<Ranges, std::uint32_t> relied_on(ImageReader& image) {
  Ranges ranges;
  std::uint32_t order = 0;
  image.for_each_snapshot_range([&](std::uint64_t offset, std::uint64_t length) {
    add_range(ranges, offset, offset + length);
    const std::array<std::uint64_t, 3> seen{order, offset, length};
    order = crc32c({reinterpret_cast<const std::uint8_t*>(seen.data()), sizeof(seen)});
  });
  return {std::move(ranges), order};
}

}  // namespace

std::size_t check_snapshots(ImageReader& before, Store& old_file, ImageReader& after,
                            Store& new_file, const FileChanges& changes) {
  const std::string& where = new_file.name();
  std::vector<Snapshot> was = before.facts().snapshots;
  const std::vector<Snapshot> is = after.facts().snapshots;
  if (was.empty() && is.empty()) return 0;
  // What had the disk's size without saying so says it now, or still does not.
  for (std::size_t i = 0; i < was.size() && i < is.size(); ++i)
    if (!was[i].disk_size && is[i].disk_size) was[i].disk_size = before.facts().disk_size;
  if (was != is) proof_failed("the list of snapshots is not what it was", where);
  for (const Snapshot& snapshot : is)
    if (!snapshot.disk_size && after.facts().disk_size != before.facts().disk_size)
      proof_failed(fmt::format("the size of snapshot {} is not on record", snapshot.id), where);
  const auto [ranges, order] = relied_on(before);
  if (relied_on(after).second != order) proof_failed("a snapshot has other tables", where);
  const auto changed = changes.find(where);
  if (changed == changes.end()) return is.size();
  for (const auto& [start, end] : ranges)
    for_each_inside(changed->second, start, end, [&](std::uint64_t from, std::uint64_t to) {
      constexpr std::uint64_t most = 1U << 20;
      for (; from < to; from += std::min(most, to - from)) {
        const std::uint64_t step = std::min(most, to - from);
        if (from + step > new_file.size() ||
            read_buffer(old_file, from, step) != read_buffer(new_file, from, step))
          proof_failed(fmt::format("what a snapshot keeps at byte {} would change", from), where);
      }
    });
  return is.size();
}

}  // namespace jh

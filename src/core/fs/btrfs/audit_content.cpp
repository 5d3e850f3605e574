#include <fmt/format.h>

#include <algorithm>

#include "core/base/ranges.h"
#include "core/fs/btrfs/audit.h"
#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {
namespace {

// The sums of an item: of sectors side by side, from a logical address on.
void check_sums(const Volume& volume, std::uint64_t logical, ConstByteSpan sums,
                std::uint64_t& read, Findings& findings, Progress& progress) {
  const std::size_t width = sum_size(volume.sums());
  const std::uint64_t sector = volume.sector_size();
  const std::uint64_t count = sums.size() / width;
  constexpr std::uint64_t at_once = 256;  // sectors
  const auto [start, chunk] = volume.chunk_of(logical, count * sector);
  for (std::size_t copy = 0; copy < chunk->copies.size(); ++copy)
    for (std::uint64_t done = 0; done < count; done += at_once) {
      const std::uint64_t step = std::min(at_once, count - done);
      const Buffer bytes = read_buffer(
          volume.place(), chunk->copies[copy] + (logical - start) + done * sector, step * sector);
      read += step * sector;
      progress.advance(read);
      for (std::uint64_t i = 0; i < step; ++i) {
        const Sum sum = sum_of(volume.sums(), ConstByteSpan(bytes).subspan(i * sector, sector));
        if (!std::equal(sum.begin(), sum.begin() + static_cast<std::ptrdiff_t>(width),
                        sums.begin() + static_cast<std::ptrdiff_t>((done + i) * width)))
          findings.add("btrfs, content", fmt::format("the sum of what is at {} is wrong",
                                                     logical + (done + i) * sector));
      }
    }
}

}  // namespace

void audit_content(const Volume& volume, Findings& findings, Progress& progress) {
  const auto root = volume.tree(object::sum_tree);
  if (!root) return;
  progress.begin("reading content against its sums", volume.super().used.value());
  const std::size_t width = sum_size(volume.sums());
  std::uint64_t read = 0;
  for_each_item(volume, *root, {}, {}, [&](const Key& key, ConstByteSpan data) {
    if (key.object != object::sums || key.type != item::sums) return;
    if (data.size() % width != 0) {
      findings.add("btrfs, content", fmt::format("the sums from {} on are cut off", key.offset));
      return;
    }
    check_sums(volume, key.offset, data, read, findings, progress);
  });
  progress.end();
}

}  // namespace jh::btrfs

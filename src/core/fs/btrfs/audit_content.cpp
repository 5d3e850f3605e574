#include <fmt/format.h>

#include <algorithm>

#include "core/base/ranges.h"
#include "core/fs/btrfs/audit.h"
#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {
namespace {

// The checksums of an item: of sectors side by side, from a logical address on, which may lie in
// several chunks.
class ContentAudit {
 public:
  ContentAudit(const Volume& volume, Findings& findings, Progress& progress)
      : volume_(volume), findings_(findings), progress_(progress) {}

  void check(std::uint64_t logical, ConstByteSpan checksums) {
    const std::uint64_t sector = volume_.sector_size();
    const std::size_t width = checksum_size(volume_.checksums());
    while (!checksums.empty()) {
      const auto [start, chunk] = volume_.chunk_of(logical, sector);
      const std::uint64_t here =
          std::min(checksums.size() / width, (start + chunk->length - logical) / sector);
      for (const std::uint64_t copy : chunk->copies)
        check_copy(copy + (logical - start), logical, checksums.first(here * width));
      logical += here * sector;
      checksums = checksums.subspan(here * width);
    }
  }

 private:
  void check_copy(std::uint64_t at, std::uint64_t logical, ConstByteSpan checksums) {
    constexpr std::uint64_t at_once = 256;  // sectors
    const std::uint64_t sector = volume_.sector_size();
    const std::size_t width = checksum_size(volume_.checksums());
    const std::uint64_t count = checksums.size() / width;
    for (std::uint64_t done = 0; done < count; done += at_once) {
      const std::uint64_t step = std::min(at_once, count - done);
      const Buffer bytes = read_buffer(volume_.place(), at + done * sector, step * sector);
      read_ += step * sector;
      progress_.advance(read_);
      for (std::uint64_t i = 0; i < step; ++i) {
        const Checksum checksum =
            checksum_of(volume_.checksums(), ConstByteSpan(bytes).subspan(i * sector, sector));
        if (!std::equal(checksum.begin(), checksum.begin() + static_cast<std::ptrdiff_t>(width),
                        checksums.begin() + static_cast<std::ptrdiff_t>((done + i) * width)))
          findings_.add("btrfs, content", fmt::format("the checksum of the data at {} is wrong",
                                                      logical + (done + i) * sector));
      }
    }
  }

  const Volume& volume_;
  Findings& findings_;
  Progress& progress_;
  std::uint64_t read_ = 0;  // bytes
};

}  // namespace

void audit_content(const Volume& volume, Findings& findings, Progress& progress) {
  const auto root = volume.tree(object::sum_tree);
  if (!root) return;
  progress.begin("verifying content by its checksums", volume.super().used.value());
  const std::size_t width = checksum_size(volume.checksums());
  ContentAudit content(volume, findings, progress);
  for_each_item(volume, *root, {}, {}, [&](const Key& key, ConstByteSpan data) {
    if (key.object != object::checksums || key.type != item::checksums) return;
    if (data.size() % width != 0) {
      findings.add("btrfs, content",
                   fmt::format("the checksums from {} on are cut off", key.offset));
      return;
    }
    content.check(key.offset, data);
  });
  progress.end();
}

}  // namespace jh::btrfs

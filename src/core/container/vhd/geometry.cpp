// Cylinders, heads and sectors, by which some readers still tell how large a disk is.
#include <algorithm>

#include "core/container/vhd/vhd.h"

namespace jh::vhd {
namespace {

// The appendix's own calculation, which rounds down to whole cylinders.
Geometry calculated(std::uint64_t disk_size) {
  std::uint64_t sectors = std::min<std::uint64_t>(disk_size / sector, 65535ULL * 16 * 255);
  std::uint64_t per_track = 0;
  std::uint64_t heads = 0;
  std::uint64_t cylinders_by_heads = 0;
  if (sectors >= 65535ULL * 16 * 63) {
    per_track = 255;
    heads = 16;
    cylinders_by_heads = sectors / per_track;
  } else {
    per_track = 17;
    cylinders_by_heads = sectors / per_track;
    heads = std::max<std::uint64_t>((cylinders_by_heads + 1023) / 1024, 4);
    if (cylinders_by_heads >= heads * 1024 || heads > 16) {
      per_track = 31;
      heads = 16;
      cylinders_by_heads = sectors / per_track;
    }
    if (cylinders_by_heads >= heads * 1024) {
      per_track = 63;
      heads = 16;
      cylinders_by_heads = sectors / per_track;
    }
  }
  return {static_cast<std::uint16_t>(cylinders_by_heads / heads), static_cast<std::uint8_t>(heads),
          static_cast<std::uint8_t>(per_track)};
}

}  // namespace

Geometry geometry_of(std::uint64_t disk_size) {
  const Geometry exact = calculated(disk_size);
  const std::uint64_t sectors = std::uint64_t{exact.cylinders} * exact.heads * exact.sectors;
  // Some readers take the size from here. One that does not say it all would cut the disk's end
  // off; the largest one there is tells them to look at the current size.
  if (sectors * sector == disk_size) return exact;
  return {65535, 16, 255};
}

}  // namespace jh::vhd

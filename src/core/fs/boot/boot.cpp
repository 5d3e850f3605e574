#include "core/fs/boot/boot.h"

#include "core/fs/boot/format.h"

namespace jh::boot {
namespace {

void tell(Store& volume, std::uint64_t at, const Sector& first, std::uint64_t from,
          std::uint64_t to) {
  if (at + sizeof(Sector) > volume.size()) return;
  auto sector = read_as<Sector>(volume, at);
  const bool same_kind = sector.maker == first.maker &&
                         sector.bytes_per_sector.value() == first.bytes_per_sector.value();
  if (!same_kind || sector.hidden_sectors.value() != from) return;
  sector.hidden_sectors = static_cast<std::uint32_t>(to);
  volume.write(at, bytes_of(sector));
}

}  // namespace

void begin_elsewhere(Store& volume, Kind kind, std::uint64_t from, std::uint64_t to) {
  if (from > UINT32_MAX || to > UINT32_MAX || volume.size() < 512) return;
  const auto first = read_as<Sector>(volume, 0);
  const std::uint64_t unit = first.bytes_per_sector.value();
  tell(volume, 0, first, from, to);
  if (kind == Kind::ntfs) {
    // The copy is the partition's last sector.
    if (unit != 0) tell(volume, round_down(volume.size(), unit) - unit, first, from, to);
  } else if (first.sectors_per_fat_16.value() == 0 && first.copy_sector.value() != 0) {
    tell(volume, first.copy_sector.value() * unit, first, from, to);
  }
}

}  // namespace jh::boot

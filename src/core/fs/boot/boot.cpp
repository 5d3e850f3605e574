#include "core/fs/boot/boot.h"

#include <fmt/format.h>

#include <string_view>

#include "core/fs/boot/format.h"
#include "core/fs/text_at.h"

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

// Where they say that the partition begins at `from`, in the boot sector and its copy. Others (made
// without a disk around them) stay as they are, and so does a copy that is not where it should be.
void begin_elsewhere(Store& volume, std::uint64_t from, std::uint64_t to) {
  if (from > UINT32_MAX || to > UINT32_MAX || volume.size() < 512) return;
  const auto first = read_as<Sector>(volume, 0);
  tell(volume, 0, first, from, to);
  if (first.sectors_per_fat_16.value() == 0 && first.copy_sector.value() != 0)
    tell(volume, std::uint64_t{first.copy_sector.value()} * first.bytes_per_sector.value(), first,
         from, to);
}

using namespace std::string_view_literals;

bool is_fat32(Store& place) { return holds(place, 82, "FAT32"sv); }
bool is_fat(Store& place) { return holds(place, 54, "FAT1"sv); }

OpenedFilesystem open_fat_at(Store& place, const char* name, std::uint64_t serial_at,
                             std::uint64_t label_at) {
  OpenedFilesystem found;
  found.facts.name = name;
  found.facts.state = "not looked into";
  found.facts.label = text_at(place, label_at, 11);
  // The serial number, as fstab writes it.
  const auto serial = read_as<Le32>(place, serial_at).value();
  found.facts.uuid = fmt::format("{:04X}-{:04X}", serial >> 16, serial & 0xFFFF);
  if (found.facts.label == "NO NAME") found.facts.label.clear();
  return found;
}

OpenedFilesystem open_fat32(Store& place) { return open_fat_at(place, "FAT32", 67, 71); }
OpenedFilesystem open_fat(Store& place) { return open_fat_at(place, "FAT", 39, 43); }

FilesystemKind kind_of(const char* name, bool (*recognise)(Store&),
                       OpenedFilesystem (*open)(Store&)) {
  FilesystemKind kind{name};
  kind.recognise = recognise;
  kind.open = open;
  kind.begin_elsewhere = begin_elsewhere;
  return kind;
}

}  // namespace

const FilesystemKind fat32 = kind_of("FAT32", is_fat32, open_fat32);
const FilesystemKind fat = kind_of("FAT", is_fat, open_fat);

}  // namespace jh::boot

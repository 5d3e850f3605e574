#include "core/fs/fat/fat.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "core/fs/fat/audit.h"
#include "core/fs/text_at.h"

namespace jh::fat {
namespace {

using namespace std::string_view_literals;

class FatFilesystem final : public FilesystemOnDisk {
 public:
  explicit FatFilesystem(Store& store) : volume_(store) {}

  Store& store() override { return volume_.store(); }
  Bytes size() const override { return Bytes(volume_.geometry().size()); }
  Bytes unit() const override { return Bytes(volume_.geometry().sector_size); }
  Bytes usable(Bytes) const override { return size(); }
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override {
    const auto file = volume_.find(path);
    if (!file || file->folder) return std::nullopt;
    const std::uint64_t wanted = std::min<std::uint64_t>(file->size, limit);
    std::string text;
    if (file->cluster == 0) return text;
    const Geometry& g = volume_.geometry();
    for (const std::uint32_t cluster : volume_.chain(file->cluster)) {
      if (text.size() >= wanted) break;
      const Buffer part = read_buffer(volume_.store(), g.offset(cluster),
                                      std::min(g.cluster_size, wanted - text.size()));
      text.append(part.begin(), part.end());
    }
    return text;
  }
  FilesystemFloor floor() override { return {size(), "a FAT keeps its size"}; }
  ResizePlan plan_resize(Bytes) override { keeps_its_size(); }
  void resize(Bytes, Progress&) override { keeps_its_size(); }
  void audit(AuditScope, Bytes, Findings& findings, Progress& progress) override {
    fat::audit(volume_, findings, progress);
  }
  std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t) override { return at; }
  void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) override {
    const Geometry& g = volume_.geometry();
    const std::uint32_t stop = g.clusters + first_cluster;
    for (std::uint32_t at = first_cluster; at < stop; ++at) {
      if (volume_.next(at) != Volume::unused) continue;
      const std::uint32_t start = at;
      while (at < stop && volume_.next(at) == Volume::unused) ++at;
      visit(g.offset(start), g.offset(at));
    }
  }
  std::string free_words(const std::string& name) const override {
    return "free clusters of " + name;
  }

  Volume& volume() { return volume_; }

 private:
  [[noreturn]] static void keeps_its_size() {
    unsupported("a FAT keeps its size", "FAT",
                "where a firmware's partition is too small, make a larger one inside the guest");
  }

  Volume volume_;
};

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
void set_partition_start(Store& volume, std::uint64_t from, std::uint64_t to) {
  if (from > UINT32_MAX || to > UINT32_MAX || volume.size() < 512) return;
  const auto first = read_as<Sector>(volume, 0);
  tell(volume, 0, first, from, to);
  if (first.sectors_per_fat_16.value() == 0 && first.copy_sector.value() != 0)
    tell(volume, std::uint64_t{first.copy_sector.value()} * first.bytes_per_sector.value(), first,
         from, to);
}

bool is_fat32(Store& place) { return holds(place, 82, "FAT32"sv); }
bool is_fat(Store& place) { return holds(place, 54, "FAT1"sv); }

OpenedFilesystem open_at(Store& place, const char* name, std::uint64_t serial_at,
                         std::uint64_t label_at) {
  OpenedFilesystem found;
  LayerFacts& facts = found.facts;
  facts.name = name;
  facts.label = text_at(place, label_at, 11);
  // The serial number, as fstab writes it.
  const auto serial = read_as<Le32>(place, serial_at).value();
  facts.uuid = fmt::format("{:04X}-{:04X}", serial >> 16, serial & 0xFFFF);
  if (facts.label == "NO NAME") facts.label.clear();
  try {
    auto opened = std::make_unique<FatFilesystem>(place);
    Volume& volume = opened->volume();
    if (const std::string label = volume.label(); !label.empty()) facts.label = label;
    facts.size = opened->size();
    std::uint64_t free = 0;
    opened->for_each_free([&](std::uint64_t from, std::uint64_t to) { free += to - from; });
    facts.used = opened->size() - Bytes(free);
    facts.state = volume.is_marked_clean() ? "clean" : "not cleanly unmounted";
    found.filesystem = std::move(opened);
  } catch (const Error& error) {
    facts.state = "damaged";
    facts.blockers.push_back(error);
  }
  return found;
}

OpenedFilesystem open_fat32(Store& place) { return open_at(place, "FAT32", 67, 71); }
OpenedFilesystem open_fat(Store& place) { return open_at(place, "FAT", 39, 43); }

std::uint64_t claimed_size(Store& place) {
  const auto boot = read_as<Sector>(place, 0);
  const std::uint64_t sectors =
      boot.sectors_16.value() != 0 ? boot.sectors_16.value() : boot.sectors_32.value();
  return sectors * boot.bytes_per_sector.value();
}

FilesystemKind kind_of(const char* name, bool (*recognise)(Store&),
                       OpenedFilesystem (*open)(Store&)) {
  auto made = audited_kind<FatFilesystem>(name, recognise, open, claimed_size);
  made.holds_files = true;
  made.set_partition_start = set_partition_start;
  return made;
}

}  // namespace

const FilesystemKind fat32 = kind_of("FAT32", is_fat32, open_fat32);
const FilesystemKind fat = kind_of("FAT", is_fat, open_fat);

}  // namespace jh::fat

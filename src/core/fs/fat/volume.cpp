#include "core/fs/fat/volume.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "core/base/uuid.h"
#include "core/store/utf16.h"

namespace jh::fat {
namespace {

constexpr const char* in_boot_sector = "FAT boot sector";
constexpr std::uint64_t most_folder_bytes = 65536ULL * sizeof(Entry);

std::string trimmed(std::string text) {
  text.erase(text.find_last_not_of(' ') + 1);
  return text;
}

std::string short_name_of(const Entry& entry) {
  std::string all(entry.name.begin(), entry.name.end());
  if (all[0] == '\x05') all[0] = removed;
  for (char& c : all)
    if (static_cast<unsigned char>(c) < 0x20) c = '?';
  const std::string extension = trimmed(all.substr(8));
  return trimmed(all.substr(0, 8)) + (extension.empty() ? "" : "." + extension);
}

// "FAT Directory Structure": what must not be in a short name.
bool is_proper(const Entry& entry) {
  constexpr std::string_view forbidden = "\"*+,./:;<=>?[\\]|";
  for (std::size_t i = 0; i < entry.name.size(); ++i) {
    const char c = entry.name[i];
    const bool stands_for_another = i == 0 && c == '\x05';
    if ((static_cast<unsigned char>(c) < 0x20 && !stands_for_another) ||
        forbidden.find(c) != std::string_view::npos)
      return false;
  }
  return entry.name[0] != ' ';
}

std::uint8_t checksum_of(const Entry& entry) {
  std::uint8_t sum = 0;
  for (const char c : entry.name)
    sum = static_cast<std::uint8_t>(((sum & 1) << 7) + (sum >> 1) + static_cast<std::uint8_t>(c));
  return sum;
}

// Pieces of a long name as they come, the last one first.
class LongName {
 public:
  void add(const LongEntry& piece) {
    if ((piece.order & 0x40) != 0) units_.clear();
    checksum_ = piece.checksum;
    Buffer units;
    for (const auto* part : {&piece.first[0], &piece.second[0], &piece.third[0]}) {
      const std::size_t count = part == &piece.first[0] ? 5 : part == &piece.second[0] ? 6 : 2;
      for (std::size_t i = 0; i < count; ++i) {
        units.push_back(static_cast<std::uint8_t>(part[i].value() & 0xFF));
        units.push_back(static_cast<std::uint8_t>(part[i].value() >> 8));
      }
    }
    units_.insert(units_.begin(), units.begin(), units.end());
  }
  std::string take(const Entry& entry) {
    const Buffer units = std::move(units_);
    units_.clear();
    if (units.empty() || checksum_ != checksum_of(entry)) return short_name_of(entry);
    return text_from_utf16(units, false);
  }

 private:
  Buffer units_;
  std::uint8_t checksum_ = 0;
};

}  // namespace

Geometry read_geometry(Store& place) {
  const auto boot = read_as<Sector>(place, 0);
  Geometry g;
  g.sector_size = boot.bytes_per_sector.value();
  const std::uint64_t per_cluster = boot.sectors_per_cluster;
  if (!is_power_of_two(g.sector_size) || g.sector_size < 512 || g.sector_size > 4096 ||
      !is_power_of_two(per_cluster) || boot.reserved_sectors.value() == 0 || boot.fats == 0)
    damaged("its sizes contradict each other", in_boot_sector);
  const std::uint64_t unit = g.sector_size;
  g.cluster_size = per_cluster * unit;
  g.sectors = boot.sectors_16.value() != 0 ? boot.sectors_16.value() : boot.sectors_32.value();
  const std::uint64_t per_table = boot.sectors_per_fat_16.value() != 0
                                      ? boot.sectors_per_fat_16.value()
                                      : boot.sectors_per_fat_32.value();
  g.tables = boot.fats;
  g.table_at = boot.reserved_sectors.value() * unit;
  g.table_bytes = per_table * unit;
  g.root_at = g.table_at + g.tables * g.table_bytes;
  g.root_bytes = round_up(boot.root_entries.value() * sizeof(Entry), unit);
  g.data_at = g.root_at + g.root_bytes;
  if (g.size() > place.size())
    damaged(fmt::format("it says that it has {} sectors, and its place has {}", g.sectors,
                        place.size() / unit),
            in_boot_sector, "the image, or the partition, may have been cut");
  if (g.data_at >= g.size()) damaged("there is no room for files in it", in_boot_sector);
  const std::uint64_t clusters = (g.size() - g.data_at) / g.cluster_size;
  if (clusters >= 0x0FFFFFF5) damaged("it has more clusters than there can be", in_boot_sector);
  g.clusters = static_cast<std::uint32_t>(clusters);
  g.width = boot.sectors_per_fat_16.value() == 0 ? Width::bits32
            : g.clusters < fat12_clusters        ? Width::bits12
                                                 : Width::bits16;
  if (g.width == Width::bits16 && g.clusters >= fat16_clusters)
    damaged("it has more clusters than its table can number", in_boot_sector);
  const std::uint64_t entries = std::uint64_t{g.clusters} + first_cluster;
  if (g.table_bytes * 8 / static_cast<std::uint64_t>(g.width) < entries)
    damaged("its table is shorter than its clusters need", in_boot_sector);
  if (g.width != Width::bits32) return g;
  g.root_cluster = boot.root_cluster.value();
  if (const std::uint16_t flags = boot.flags.value(); (flags & 0x80) != 0) {
    g.copies_are_kept = false;
    g.first_table = flags & 0x0F;
    if (g.first_table >= g.tables) damaged("the table that counts is not there", in_boot_sector);
  }
  if (!g.is_cluster(g.root_cluster)) damaged("its root folder lies outside", in_boot_sector);
  const std::uint64_t information = boot.information_sector.value();
  if (information != 0 && information < boot.reserved_sectors.value())
    g.information_at = information * unit;
  return g;
}

std::uint32_t Volume::next(std::uint32_t cluster) {
  const std::uint64_t bits = static_cast<std::uint64_t>(g_.width) * cluster;
  const std::uint64_t at = bits / 8;
  constexpr std::uint64_t piece = 64U << 10;
  const std::size_t length = g_.width == Width::bits32 ? 4 : 2;
  // One byte of an entry of 12 bits may lie in the next piece.
  if (window_at_ > at || at + length > window_at_ + window_.size()) {
    window_at_ = at / piece * piece;
    window_ = read_buffer(*store_, g_.table_at + g_.first_table * g_.table_bytes + window_at_,
                          std::min(piece + 4, g_.table_bytes - window_at_));
  }
  if (g_.width == Width::bits32)
    return parse_as<Le32>(window_, at - window_at_).value() & 0x0FFFFFFF;
  std::uint32_t value = parse_as<Le16>(window_, at - window_at_).value();
  if (g_.width == Width::bits12) value = bits % 8 == 0 ? value & 0xFFF : value >> 4;
  const std::uint32_t first_mark = g_.width == Width::bits12 ? 0xFF7 : 0xFFF7;
  return value < first_mark ? value : bad_mark + (value - first_mark);
}

bool Volume::is_marked_clean() {
  if (g_.width == Width::bits12) return true;
  const std::uint64_t at = g_.table_at + g_.first_table * g_.table_bytes;
  if (g_.width == Width::bits32) return (read_as<Le32>(*store_, at + 4).value() >> 26 & 3) == 3;
  return (read_as<Le16>(*store_, at + 2).value() >> 14 & 3) == 3;
}

std::vector<std::uint32_t> Volume::chain(std::uint32_t first) {
  std::vector<std::uint32_t> clusters;
  for (std::uint32_t at = first; at < bad_mark; at = next(at)) {
    if (!g_.is_cluster(at))
      damaged(fmt::format("a chain of clusters leads to {}, which is not there", at), "FAT");
    if (clusters.size() > g_.clusters) damaged("a chain of clusters has no end", "FAT");
    clusters.push_back(at);
  }
  return clusters;
}

Buffer Volume::folder_bytes(std::uint32_t folder) {
  if (folder == 0 && g_.width != Width::bits32)
    return read_buffer(*store_, g_.root_at, g_.root_bytes);
  Buffer bytes;
  for (const std::uint32_t cluster : chain(folder == 0 ? g_.root_cluster : folder)) {
    if (bytes.size() >= most_folder_bytes + g_.cluster_size)
      damaged("a folder is longer than it can be", "FAT");
    const Buffer part = read_buffer(*store_, g_.offset(cluster), g_.cluster_size);
    bytes.insert(bytes.end(), part.begin(), part.end());
  }
  return bytes;
}

void Volume::for_each_file(std::uint32_t folder, const std::function<bool(const File&)>& visit) {
  const Buffer bytes = folder_bytes(folder);
  LongName long_name;
  for (std::size_t at = 0; at + sizeof(Entry) <= bytes.size(); at += sizeof(Entry)) {
    const auto entry = parse_as<Entry>(bytes, at);
    if (entry.name[0] == 0) return;
    if (entry.name[0] == removed) continue;
    if ((entry.attributes & 0x3F) == attribute::long_name) {
      long_name.add(parse_as<LongEntry>(bytes, at));
      continue;
    }
    File file;
    file.name = long_name.take(entry);
    if ((entry.attributes & attribute::label) != 0) continue;
    file.short_name = short_name_of(entry);
    file.is_proper = file.short_name == "." || file.short_name == ".." || is_proper(entry);
    file.folder = (entry.attributes & attribute::folder) != 0;
    file.cluster =
        entry.cluster_low.value() |
        (g_.width == Width::bits32 ? std::uint32_t{entry.cluster_high.value()} << 16 : 0);
    file.size = entry.size.value();
    if (!visit(file)) return;
  }
}

std::optional<Volume::File> Volume::find(const std::string& path) {
  std::optional<File> found = File{"/", "/", true, 0, 0};
  for (std::size_t from = 0; from < path.size();) {
    const std::size_t end = std::min(path.find('/', from), path.size());
    const std::string wanted = fold_case(path.substr(from, end - from));
    from = end + 1;
    if (wanted.empty()) continue;
    if (!found->folder) return std::nullopt;
    const std::uint32_t folder = found->cluster;
    found.reset();
    for_each_file(folder, [&](const File& file) {
      if (fold_case(file.name) == wanted || fold_case(file.short_name) == wanted) found = file;
      return !found.has_value();
    });
    if (!found) return std::nullopt;
  }
  return found;
}

std::string Volume::label() {
  const Buffer bytes = folder_bytes(0);
  for (std::size_t at = 0; at + sizeof(Entry) <= bytes.size(); at += sizeof(Entry)) {
    const auto entry = parse_as<Entry>(bytes, at);
    if (entry.name[0] == 0) break;
    if (entry.name[0] == removed || (entry.attributes & 0x3F) == attribute::long_name) continue;
    if ((entry.attributes & attribute::label) != 0)
      return trimmed(std::string(entry.name.begin(), entry.name.end()));
  }
  return {};
}

}  // namespace jh::fat

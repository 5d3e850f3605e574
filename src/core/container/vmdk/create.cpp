#include <fmt/format.h>

#include <charconv>

#include "core/container/vmdk/extent.h"
#include "core/container/vmdk/vmdk.h"

namespace jh::vmdk {
namespace {

constexpr std::uint64_t grain_sectors = 128;
constexpr std::uint64_t descriptor_sectors = 20;

SparseHeader header_for(std::uint64_t disk_size, bool with_descriptor) {
  SparseHeader header{};
  std::copy(magic.begin(), magic.end(), header.magic.begin());
  header.version = 1;
  header.flags = flag::line_ends | flag::spare_tables;
  header.capacity = disk_size / sector;
  header.grain = grain_sectors;
  header.entries_per_table = entries_per_table;
  if (with_descriptor) {
    header.descriptor_offset = 1;
    header.descriptor_size = descriptor_sectors;
  }
  header.line_ends = {'\n', ' ', '\r', '\n'};
  return header;
}

}  // namespace

std::optional<std::uint32_t> parse_content_id(const std::string& text) {
  std::uint32_t number = 0;
  const auto end = std::from_chars(text.data(), text.data() + text.size(), number, 16);
  if (text.empty() || end.ec != std::errc() || end.ptr != text.data() + text.size())
    return std::nullopt;
  return number;
}

std::string new_descriptor(const std::string& kind, std::uint32_t content_id,
                           const std::vector<ExtentLine>& extents, std::uint64_t disk_size,
                           const std::string& adapter) {
  std::string lines;
  for (const ExtentLine& extent : extents) {
    lines += fmt::format("RW {} {} \"{}\"", extent.sectors, extent.kind, extent.file);
    lines += extent.kind == "FLAT" ? " 0\n" : "\n";
  }
  // IDE controllers show 16 heads, and no more cylinders than their registers hold; others 255.
  const std::uint64_t heads = adapter == "ide" ? 16 : 255;
  const std::uint64_t cylinders =
      std::min<std::uint64_t>(disk_size / sector / heads / 63, adapter == "ide" ? 16383 : 65535);
  return fmt::format(
      "# Disk DescriptorFile\nversion=1\nCID={:08x}\nparentCID=ffffffff\ncreateType=\"{}\"\n"
      "\n# Extents, in the order of the disk\n{}"
      "\n# The disk as a controller shows it\nddb.adapterType = \"{}\"\n"
      "ddb.geometry.sectors = \"63\"\nddb.geometry.heads = \"{}\"\n"
      "ddb.geometry.cylinders = \"{}\"\n",
      content_id, kind, lines, adapter, heads, cylinders);
}

void create_extent(Store& file, std::uint64_t disk_size, const std::string& descriptor) {
  SparseHeader header = header_for(disk_size, !descriptor.empty());
  if (disk_size > most_extent_bytes - (most_extent_bytes >> 6))
    refuse("a sparse VMDK extent reaches just under 2 TiB at most", file.name(),
           "choose another form");
  const std::uint64_t tables = ceil_div(disk_size, grain_sectors * sector * entries_per_table);
  const std::uint64_t directory = ceil_div(tables * 4, sector);
  std::uint64_t at = 1 + header.descriptor_size.value();
  const auto place_directory = [&] {
    const std::uint64_t start = at;
    Buffer raw(directory * sector);
    for (std::uint64_t i = 0; i < tables; ++i)
      put_at(raw, i * 4, Le32(static_cast<std::uint32_t>(start + directory + i * table_sectors)));
    at += directory + tables * table_sectors;
    file.resize(at * sector);
    file.write(start * sector, raw);
    return start;
  };
  file.resize(at * sector);
  header.spare_directory = place_directory();
  header.directory = place_directory();
  header.overhead = round_up(at, grain_sectors);
  file.resize(header.overhead.value() * sector);
  file.write(0, bytes_of(header));
  if (!descriptor.empty()) file.write(sector, text_bytes(descriptor));
}

StreamWriter::StreamWriter(Store& file, std::uint64_t disk_size, const std::string& descriptor)
    : file_(file), header_(header_for(disk_size, true)) {
  header_.version = 3;
  header_.flags = flag::line_ends | flag::compressed | flag::markers;
  header_.compression = compression_deflate;
  header_.overhead = grain_sectors;
  header_.directory = directory_in_footer;
  directory_.resize(ceil_div(disk_size, grain * entries_per_table));
  table_.resize(table_sectors * sector);
  at_ = grain_sectors * sector;
  file.resize(at_);
  file.write(0, bytes_of(header_));
  file.write(sector, text_bytes(descriptor));
}

void StreamWriter::append(ConstByteSpan data) {
  file_.resize(at_ + round_up(data.size(), sector));
  file_.write_unreferenced(at_, data);
  at_ += round_up(data.size(), sector);
}

std::uint32_t StreamWriter::append_table() {
  Marker marker{};
  marker.sectors = table_sectors;
  marker.type = static_cast<std::uint32_t>(MarkerType::table);
  append(bytes_of(marker));
  const auto place = checked_cast<std::uint32_t>(at_ / sector);
  append(table_);
  return place;
}

void StreamWriter::put(std::uint64_t number, ConstByteSpan compressed) {
  if (number / entries_per_table != table_number_) {
    if (table_used_) directory_[table_number_] = append_table();
    std::fill(table_.begin(), table_.end(), std::uint8_t{0});
    table_number_ = number / entries_per_table;
    table_used_ = false;
  }
  put_at(table_, number % entries_per_table * 4, Le32(checked_cast<std::uint32_t>(at_ / sector)));
  table_used_ = true;
  GrainMarker marker{};
  marker.sector = number * grain_sectors;
  marker.size = static_cast<std::uint32_t>(compressed.size());
  Buffer whole(sizeof(marker) + compressed.size());
  put_at(whole, 0, marker);
  std::copy(compressed.begin(), compressed.end(), whole.begin() + sizeof(marker));
  append(whole);
}

void StreamWriter::finish() {
  if (table_used_) directory_[table_number_] = append_table();
  Marker marker{};
  marker.sectors = ceil_div(directory_.size() * 4, sector);
  marker.type = static_cast<std::uint32_t>(MarkerType::directory);
  append(bytes_of(marker));
  header_.directory = at_ / sector;
  Buffer raw(directory_.size() * 4);
  for (std::size_t i = 0; i < directory_.size(); ++i) put_at(raw, i * 4, Le32(directory_[i]));
  append(raw);
  marker.sectors = 1;
  marker.type = static_cast<std::uint32_t>(MarkerType::footer);
  append(bytes_of(marker));
  append(bytes_of(header_));
  append(bytes_of(Marker{}));
}

}  // namespace jh::vmdk

#include "core/container/vhdx/structure.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/checksum.h"
#include "core/store/utf16.h"

namespace jh::vhdx {
namespace {

[[noreturn]] void corrupt(Store& file, const std::string& what) {
  damaged("the VHDX image is corrupt: " + what, file.name(),
          "take the image from a backup, or let the hypervisor check it");
}

template <std::size_t N>
bool is(const std::array<char, N>& signature, std::string_view wanted) {
  return std::string_view(signature.data(), N) == wanted;
}

// The sum of a structure that has it as its second field of 32 bits.
std::uint32_t checksum_of(Buffer bytes) {
  put_at(bytes, 4, Le32(0));
  return crc32c(bytes);
}

std::optional<Header> sound_header(Store& file, std::uint64_t at) {
  if (file.size() < at + header_size) return std::nullopt;
  const Buffer bytes = read_buffer(file, at, header_size);
  const auto header = parse_as<Header>(bytes, 0);
  if (!is(header.signature, "head") || header.checksum.value() != checksum_of(bytes))
    return std::nullopt;
  return header;
}

std::optional<std::vector<RegionEntry>> sound_regions(Store& file, std::uint64_t at) {
  if (file.size() < at + table_size) return std::nullopt;
  const Buffer bytes = read_buffer(file, at, table_size);
  const auto table = parse_as<RegionTable>(bytes, 0);
  if (!is(table.signature, "regi") || table.checksum.value() != checksum_of(bytes) ||
      table.entries.value() > most_regions)
    return std::nullopt;
  std::vector<RegionEntry> entries;
  for (std::uint32_t i = 0; i < table.entries.value(); ++i)
    entries.push_back(parse_as<RegionEntry>(bytes, sizeof(RegionTable) + i * sizeof(RegionEntry)));
  return entries;
}

void read_regions(Store& file, Structure& s) {
  auto first = sound_regions(file, region_table_offsets[0]);
  auto second = sound_regions(file, region_table_offsets[1]);
  if (!first && !second) corrupt(file, "both of its region tables are damaged");
  if (!first || !second)
    s.notes.push_back(fmt::format("region table {} is damaged", first ? 2 : 1));
  s.regions = first ? *first : *second;
  for (const RegionEntry& entry : s.regions) {
    const Region region{entry.offset.value(), entry.length.value()};
    const bool known = entry.id == bat_region || entry.id == metadata_region;
    if (!known && entry.required.value() != 0)
      unsupported("the VHDX image has a region that is not known: " + guid_text(entry.id),
                  file.name(), "let the hypervisor convert it");
    if (!known) continue;
    if (region.offset % unit != 0 || region.offset < unit || region.length % unit != 0 ||
        checked_add(region.offset, region.length) > file.size())
      corrupt(file, fmt::format("a region of {} bytes at {}", region.length, region.offset));
    (entry.id == bat_region ? s.bat : s.metadata) = region;
  }
  if (s.bat.length == 0 || s.metadata.length == 0) corrupt(file, "a region is missing");
}

void read_parent(Store& file, Structure& s, std::uint64_t at, std::uint64_t length) {
  if (length < sizeof(ParentLocator) || length > table_size) corrupt(file, "its parent locator");
  const Buffer bytes = read_buffer(file, at, static_cast<std::size_t>(length));
  const auto locator = parse_as<ParentLocator>(bytes, 0);
  std::string absolute;
  for (std::uint32_t i = 0; i < locator.entries.value(); ++i) {
    const auto entry =
        parse_as<ParentEntry>(bytes, sizeof(ParentLocator) + i * sizeof(ParentEntry));
    const auto text = [&](std::uint64_t offset, std::uint64_t size) {
      if (offset + size > bytes.size()) corrupt(file, "its parent locator");
      return text_from_utf16(ConstByteSpan(bytes).subspan(offset, size), false);
    };
    const std::string key = text(entry.key_offset.value(), entry.key_length.value());
    std::string value = text(entry.value_offset.value(), entry.value_length.value());
    if (key == "parent_linkage") {
      s.parent_linkage = fold_case(value);
      std::erase_if(s.parent_linkage, [](char c) { return c == '{' || c == '}'; });
    }
    std::replace(value.begin(), value.end(), '\\', '/');
    if (value.starts_with("./")) value.erase(0, 2);
    if (key == "relative_path") s.parent_names.insert(s.parent_names.begin(), value);
    if (key == "absolute_win32_path") absolute = value;
  }
  // Absolute names of another system mean nothing here; their last part may lie beside us.
  if (!absolute.empty()) s.parent_names.push_back(absolute.substr(absolute.rfind('/') + 1));
}

void read_items(Store& file, Structure& s) {
  const Buffer bytes =
      read_buffer(file, s.metadata.offset, std::min<std::uint64_t>(table_size, s.metadata.length));
  const auto table = parse_as<MetadataTable>(bytes, 0);
  if (!is(table.signature, "metadata") || table.entries.value() > most_items)
    corrupt(file, "its metadata table");
  for (std::uint32_t i = 0; i < table.entries.value(); ++i) {
    const auto item =
        parse_as<MetadataEntry>(bytes, sizeof(MetadataTable) + i * sizeof(MetadataEntry));
    const std::uint64_t length = item.length.value();
    if (checked_add(item.offset.value(), length) > s.metadata.length)
      corrupt(file, "a metadata item lies outside of its region");
    const std::uint64_t at = s.metadata.offset + item.offset.value();
    const auto need = [&](std::uint64_t size) {
      if (length < size) corrupt(file, "a metadata item is too short");
    };
    s.items.push_back(item);
    if (item.id == file_parameters_item) {
      need(sizeof(FileParameters));
      const auto parameters = read_as<FileParameters>(file, at);
      s.block_size = parameters.block_size.value();
      s.flags = parameters.flags.value();
    } else if (item.id == disk_size_item) {
      need(8);
      s.disk_size = read_as<Le64>(file, at).value();
    } else if (item.id == logical_sector_item) {
      need(4);
      s.sector = read_as<Le32>(file, at).value();
    } else if (item.id == disk_id_item) {
      need(16);
      s.disk_id = read_as<Uuid>(file, at);
    } else if (item.id == parent_locator_item) {
      read_parent(file, s, at, length);
    } else if (item.id == physical_sector_item) {
      // Some readers refuse a disk that does not end with a whole one; 512 or 4096 (2.6.2.5).
      if (length >= 4 && read_as<Le32>(file, at).value() == 4096) s.physical_sector = 4096;
    } else if ((item.flags.value() & item_is_required) != 0) {
      unsupported("the VHDX image has metadata that is not known: " + guid_text(item.id),
                  file.name(), "let the hypervisor convert it");
    }
  }
}

}  // namespace

std::uint64_t Structure::entries_for(std::uint64_t size) const {
  const std::uint64_t payloads = ceil_div(size, block_size);
  if ((flags & has_parent) != 0) return ceil_div(payloads, chunk_ratio()) * (chunk_ratio() + 1);
  return payloads == 0 ? 0 : payloads + (payloads - 1) / chunk_ratio();
}

Header read_headers(Store& file, Structure& s) {
  const auto first = sound_header(file, header_offsets[0]);
  const auto second = sound_header(file, header_offsets[1]);
  if (!first && !second) corrupt(file, "both of its headers are damaged");
  if (!first || !second) s.notes.push_back(fmt::format("header {} is damaged", first ? 2 : 1));
  s.slot = !first || (second && second->sequence.value() > first->sequence.value()) ? 1 : 0;
  s.header = s.slot == 0 ? *first : *second;
  if (s.header.version.value() != 1)
    unsupported(fmt::format("VHDX version {} is not known", s.header.version.value()), file.name());
  const std::uint64_t length = s.header.log_length.value();
  if (!is_zero(s.header.log)) {
    if (s.header.log_version.value() != 0)
      unsupported("the image's log is of a version that is not known", file.name());
    if (length == 0 || length % unit != 0 || s.header.log_offset.value() % unit != 0 ||
        checked_add(s.header.log_offset.value(), length) > file.size())
      corrupt(file, fmt::format("a log of {} bytes at {}", length, s.header.log_offset.value()));
    if (length > most_log)
      unsupported(fmt::format("the image's log of {} bytes is larger than can be replayed", length),
                  file.name(), "let the hypervisor open and close it");
  }
  return s.header;
}

void read_tables(Store& file, Structure& s) {
  read_regions(file, s);
  read_items(file, s);
  if (s.sector != 512 && s.sector != 4096)
    corrupt(file, fmt::format("sectors of {} bytes", s.sector));
  if (!is_power_of_two(s.block_size) || s.block_size < unit || s.block_size > 256 * unit)
    corrupt(file, fmt::format("blocks of {} bytes", s.block_size));
  if (s.disk_size == 0 || s.disk_size % s.sector != 0 || s.disk_size > most_bytes)
    corrupt(file, fmt::format("a disk of {} bytes", s.disk_size));
  if (s.entries_for(s.disk_size) * 8 > s.bat.length)
    corrupt(file, fmt::format("a block table of {} bytes is too small for the disk", s.bat.length));
}

void write_headers(Store& file, Structure& s) {
  for (int i = 0; i < 2; ++i) {
    s.slot = 1 - s.slot;
    s.header.sequence = s.header.sequence.value() + 1;
    Buffer bytes(header_size);
    put_at(bytes, 0, s.header);
    s.header.checksum = checksum_of(bytes);
    put_at(bytes, 0, s.header);
    file.write(header_offsets[s.slot], bytes);
  }
}

void write_regions(Store& file, const Structure& s) {
  Buffer bytes(table_size);
  RegionTable table{{'r', 'e', 'g', 'i'}, {}, {}, {}};
  table.entries = static_cast<std::uint32_t>(s.regions.size());
  for (std::size_t i = 0; i < s.regions.size(); ++i)
    put_at(bytes, sizeof(RegionTable) + i * sizeof(RegionEntry), s.regions[i]);
  put_at(bytes, 0, table);
  table.checksum = checksum_of(bytes);
  put_at(bytes, 0, table);
  for (const std::uint64_t at : region_table_offsets) file.write(at, bytes);
}

void write_item(Store& file, const Structure& s, const Uuid& id, ConstByteSpan value) {
  for (const MetadataEntry& item : s.items) {
    if (item.id != id) continue;
    ensure(item.length.value() >= value.size(), "the item has room for its value");
    file.write(s.metadata.offset + item.offset.value(), value);
    return;
  }
  damaged("a metadata item is missing", file.name());
}

}  // namespace jh::vhdx

#include "core/lvm/device.h"

#include <fmt/format.h>

#include "core/base/checksum.h"

namespace jh::lvm {
namespace {

constexpr std::size_t most_areas = 16;  // of each list; a label's sector has room for few more

std::uint32_t checksum(ConstByteSpan data) { return crc32_plain(initial_checksum, data); }

template <std::size_t n>
bool same(const std::array<char, n>& field, std::string_view magic) {
  return std::string_view(field.data(), n) == magic;
}

std::optional<std::uint64_t> find_label(Store& place) {
  for (std::uint64_t i = 0; i < label_sectors && (i + 1) * sector <= place.size(); ++i) {
    const auto label = read_as<LabelHeader>(place, i * sector);
    if (same(label.magic, label_magic) && same(label.type, label_type)) return i;
  }
  return std::nullopt;
}

std::vector<Area> read_list(ConstByteSpan raw, std::size_t& at) {
  std::vector<Area> list;
  for (;;) {
    const auto entry = parse_as<AreaEntry>(raw, at);
    at += sizeof(AreaEntry);
    if (entry.offset.value() == 0) return list;
    if (list.size() == most_areas) damaged("its label lists too many areas");
    list.push_back({entry.offset.value(), entry.size.value()});
  }
}

void put_list(ByteSpan raw, std::size_t& at, const std::vector<Area>& list) {
  const auto put = [&](const Area& area) {
    AreaEntry entry{};
    entry.offset = area.offset;
    entry.size = area.size;
    put_at(raw, at, entry);
    at += sizeof(AreaEntry);
  };
  for (const Area& area : list) put(area);
  put({});
}

// The text goes round: behind the area's end it continues behind the header.
std::string read_round(Store& place, const MetadataArea& area) {
  const std::uint64_t to_end = area.place.size - area.slot.offset;
  const std::uint64_t first = std::min(area.slot.size, to_end);
  Buffer raw = read_buffer(place, area.place.offset + area.slot.offset, first);
  if (first < area.slot.size) {
    const Buffer rest =
        read_buffer(place, area.place.offset + sizeof(AreaHeader), area.slot.size - first);
    raw.insert(raw.end(), rest.begin(), rest.end());
  }
  return {raw.begin(), raw.end()};
}

void read_area(Store& place, MetadataArea& area) {
  const Area& at = area.place;
  if (at.size < 2 * sizeof(AreaHeader) || checked_add(at.offset, at.size) > place.size())
    damaged("a metadata area does not fit the volume");
  const auto header = read_as<AreaHeader>(place, at.offset);
  if (!same(header.magic, area_magic) ||
      checksum(bytes_of(header).subspan(sizeof(Le32))) != header.checksum.value())
    damaged("the header of a metadata area is damaged");
  if (header.version.value() != area_version || header.start.value() != at.offset ||
      header.size.value() != at.size)
    damaged("the header of a metadata area does not fit its place");
  const TextSlot& slot = header.slots[0];
  area.ignored = (slot.flags.value() & slot_ignored) != 0;
  area.slot = {slot.offset.value(), slot.size.value()};
  if (area.ignored || area.slot.offset == 0) {
    area.slot = {};
    return;
  }
  if (area.slot.offset < sizeof(AreaHeader) || area.slot.offset >= at.size ||
      area.slot.size > at.size - sizeof(AreaHeader) || area.slot.size == 0)
    damaged("a metadata area's text lies outside of it");
  area.text = read_round(place, area);
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(area.text.data());
  if (checksum({bytes, area.text.size()}) != slot.checksum.value()) {
    area.text.clear();
    damaged("the checksum of a metadata area's text is wrong");
  }
  while (!area.text.empty() && area.text.back() == '\0') area.text.pop_back();
}

void write_header(Store& place, const MetadataArea& area, std::uint32_t text_sum) {
  AreaHeader header{};
  std::copy(area_magic.begin(), area_magic.end(), header.magic.begin());
  header.version = area_version;
  header.start = area.place.offset;
  header.size = area.place.size;
  header.slots[0].offset = area.slot.offset;
  header.slots[0].size = area.slot.size;
  header.slots[0].checksum = text_sum;
  header.slots[0].flags = area.ignored ? slot_ignored : 0;
  header.checksum = checksum(bytes_of(header).subspan(sizeof(Le32)));
  place.write(area.place.offset, bytes_of(header));
}

}  // namespace

std::string id_with_hyphens(const std::string& id) {
  std::string text;
  for (std::size_t i = 0; i < id.size(); ++i) {
    if (i >= 6 && (i - 6) % 4 == 0 && i != 30) text += '-';
    text += id[i];
  }
  return text;
}

std::string id_without_hyphens(const std::string& id) {
  std::string text;
  for (const char c : id)
    if (c != '-') text += c;
  return text.size() == id_length ? text : std::string();
}

bool recognise(Store& place) { return find_label(place).has_value(); }

Device read_device(Store& place) {
  const auto at = find_label(place);
  if (!at) damaged("there is no physical volume label", place.name());
  const Buffer raw = read_buffer(place, *at * sector, sector);
  const auto label = parse_as<LabelHeader>(raw, 0);
  if (label.sector_number.value() != *at ||
      checksum(ConstByteSpan(raw).subspan(label_checksummed_from)) != label.checksum.value())
    damaged("the physical volume's label is damaged", place.name(),
            "let the guest repair the volume group first");
  Device device;
  device.label_sector = *at;
  std::size_t in_label = label.header_offset.value();
  const auto start = parse_as<HeaderStart>(raw, in_label);
  device.id.assign(start.id.data(), id_length);
  device.device_size = start.device_size.value();
  in_label += sizeof(HeaderStart);
  device.data = read_list(raw, in_label);
  for (const Area& area : read_list(raw, in_label)) {
    MetadataArea metadata;
    metadata.place = area;
    try {
      read_area(place, metadata);
    } catch (const Error& error) {
      if (error.status() != Status::damaged) throw;
      metadata.trouble = error.with_context(place.name());
    }
    device.areas.push_back(std::move(metadata));
  }
  if (raw.size() - in_label >= sizeof(HeaderExtension)) {
    const auto extension = parse_as<HeaderExtension>(raw, in_label);
    if (extension.version.value() != 0) {
      if (extension.version.value() > extension_version)
        unsupported("the physical volume's label is of a later version", place.name(),
                    "use a later juneheath");
      in_label += sizeof(HeaderExtension);
      device.extension_flags = extension.flags.value();
      device.boot = read_list(raw, in_label);
    }
  }
  return device;
}

std::uint64_t claimed_size(const Device& device) {
  std::uint64_t reach = device.device_size;
  for (const MetadataArea& area : device.areas)
    reach = std::max(reach, checked_add(area.place.offset, area.place.size));
  for (const Area& area : device.data)
    if (area.size != 0) reach = std::max(reach, checked_add(area.offset, area.size));
  return reach;
}

void write_label(Store& place, const Device& device) {
  Buffer raw(sector);
  LabelHeader label{};
  std::copy(label_magic.begin(), label_magic.end(), label.magic.begin());
  std::copy(label_type.begin(), label_type.end(), label.type.begin());
  label.sector_number = device.label_sector;
  label.header_offset = sizeof(LabelHeader);
  HeaderStart start{};
  ensure(device.id.size() == id_length, "an identity has 32 characters");
  std::copy(device.id.begin(), device.id.end(), start.id.begin());
  start.device_size = device.device_size;
  std::size_t at = sizeof(LabelHeader);
  put_at(raw, at, start);
  at += sizeof(HeaderStart);
  std::vector<Area> areas;
  for (const MetadataArea& area : device.areas) areas.push_back(area.place);
  put_list(raw, at, device.data);
  put_list(raw, at, areas);
  if (device.extension_flags) {
    HeaderExtension extension{};
    extension.version = extension_version;
    extension.flags = *device.extension_flags;
    put_at(raw, at, extension);
    at += sizeof(HeaderExtension);
    put_list(raw, at, device.boot);
  }
  put_at(raw, 0, label);
  label.checksum = checksum(ConstByteSpan(raw).subspan(label_checksummed_from));
  put_at(raw, 0, label);
  place.write(device.label_sector * sector, raw);
}

void write_area(Store& place, MetadataArea& area, const std::string& text) {
  const std::uint64_t ring = area.place.size - sizeof(AreaHeader);
  const std::uint64_t needed = text.size() + 1;
  // Behind the text in force, from the next sector on; both must fit, whatever the guest does next.
  std::uint64_t at = sizeof(AreaHeader);
  std::uint64_t held = 0;
  if (area.slot.size != 0) {
    held = round_up(area.slot.offset % sector + area.slot.size, sector);
    at = round_up(area.slot.offset + area.slot.size, sector) - sizeof(AreaHeader);
    at = at % round_down(ring, sector) + sizeof(AreaHeader);
  }
  if (needed > ring || held > ring - needed)
    refuse("the group's metadata area is too small for one more change", place.name(),
           "remove volumes or tags that are no longer needed in the guest");
  area.slot = {at, needed};
  Buffer raw(text.begin(), text.end());
  raw.push_back(0);
  const std::uint64_t first = std::min<std::uint64_t>(needed, area.place.size - at);
  place.write(area.place.offset + at, ConstByteSpan(raw).first(first));
  if (first < needed)
    place.write(area.place.offset + sizeof(AreaHeader), ConstByteSpan(raw).subspan(first));
  area.text = text;
  write_header(place, area, checksum(raw));
}

void make_area(Store& place, MetadataArea& area) {
  area.slot = {};
  write_header(place, area, 0);
}

const LayerKind kind{"LVM", [](Store& place) -> std::optional<RecognisedLayer> {
                       if (!recognise(place)) return std::nullopt;
                       RecognisedLayer found;
                       found.kind = ContentKind::physical_volume;
                       found.facts.name = "physical volume";
                       return found;
                     }};

}  // namespace jh::lvm

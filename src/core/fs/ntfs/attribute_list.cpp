#include "core/fs/ntfs/attribute_list.h"

#include <fmt/format.h>

namespace jh::ntfs {

Buffer read_list(Store& store, const Geometry& geometry, const Attribute& list) {
  if (list.resident()) return {list.value().begin(), list.value().end()};
  if (list.data_size() > list_limit)
    damaged(fmt::format("an attribute list of {} bytes", list.data_size()), "NTFS");
  return Stream(store, geometry, list.runs(geometry.clusters), list.data_size(),
                list.initialized_size())
      .read(0, list.data_size());
}

std::vector<ListItem> parse_list(ConstByteSpan raw) {
  std::vector<ListItem> items;
  for (std::size_t at = 0; at < raw.size();) {
    if (raw.size() - at < sizeof(ListEntry)) {
      if (all_zero(raw.subspan(at))) break;  // the end of the last one's padding
      damaged("an attribute list ends in the middle of an entry", "NTFS");
    }
    const auto entry = parse_as<ListEntry>(raw, at);
    const std::size_t length = entry.length.value();
    if (length % 8 != 0 || length < sizeof(ListEntry) || length > raw.size() - at ||
        entry.name_offset + 2U * entry.name_length > length)
      damaged("an entry of an attribute list contradicts itself", "NTFS");
    ListItem item{entry.type.value(),
                  {},
                  entry.lowest_vcn.value(),
                  entry.record.value(),
                  entry.instance.value()};
    for (std::size_t i = 0; i < entry.name_length; ++i)
      item.name +=
          static_cast<char16_t>(parse_as<Le16>(raw, at + entry.name_offset + 2 * i).value());
    items.push_back(std::move(item));
    at += length;
  }
  return items;
}

Buffer list_bytes(const std::vector<ListItem>& items) {
  Buffer raw;
  for (const ListItem& item : items) {
    const std::size_t at = raw.size();
    ListEntry entry{};
    entry.type = item.type;
    entry.length = static_cast<std::uint16_t>((sizeof(entry) + 2 * item.name.size() + 7) / 8 * 8);
    entry.name_length = static_cast<std::uint8_t>(item.name.size());
    entry.name_offset = sizeof(entry);
    entry.lowest_vcn = item.lowest_vcn;
    entry.record = item.record;
    entry.instance = item.instance;
    raw.resize(at + entry.length.value());
    put_at(raw, at, entry);
    for (std::size_t i = 0; i < item.name.size(); ++i) {
      Le16 unit;
      unit = item.name[i];
      put_at(raw, at + sizeof(entry) + 2 * i, unit);
    }
  }
  return raw;
}

}  // namespace jh::ntfs

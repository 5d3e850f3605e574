// The attribute that lists a file's attributes, where they do not fit into one record.
#pragma once

#include <string>
#include <vector>

#include "core/fs/ntfs/record.h"
#include "core/fs/ntfs/stream.h"

namespace jh::ntfs {

/// One entry of an attribute list.
struct ListItem {
  std::uint32_t type = 0;
  std::u16string name;
  std::uint64_t lowest_vcn = 0;
  std::uint64_t record = 0;  // reference
  std::uint16_t instance = 0;
};
/// The content of the attribute, resident or not.
Buffer read_list(Store& store, const Geometry& geometry, const Attribute& list);
/// Throws damaged.
std::vector<ListItem> parse_list(ConstByteSpan raw);
Buffer list_bytes(const std::vector<ListItem>& items);

}  // namespace jh::ntfs

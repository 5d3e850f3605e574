#include "core/fs/ntfs/file.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh::ntfs {
namespace {

std::string record_text(std::uint64_t number) { return fmt::format("NTFS, file {}", number); }

}  // namespace

File::File(Filesystem& fs, Record base) : fs_(&fs), base_(std::move(base)) {
  if (const std::uint64_t other = base_.header().base.value(); other != 0)
    damaged(fmt::format("its record says that it is a further one of file {}", number_of(other)),
            record_text(number()));
  std::vector<Attribute> found = base_.attributes();
  for (Attribute& attribute : found) {
    if (attribute.type() != type::attribute_list) continue;
    if (list_) damaged("it has two attribute lists", record_text(number()));
    list_ = attribute;
  }
  if (list_) {
    at_place(record_text(number()),
             [&] { follow_list(parse_list(read_list(fs.store(), fs.geometry(), *list_))); });
    return;
  }
  extents_.reserve(found.size());
  for (Attribute& attribute : found) extents_.push_back({std::move(attribute), number()});
}

void File::follow_list(const std::vector<ListItem>& items) {
  std::map<std::uint64_t, std::vector<Attribute>> by_record;
  by_record[number()] = base_.attributes();
  std::size_t listed = 1;  // the list itself
  for (const ListItem& item : items) {
    const std::uint64_t at = number_of(item.record);
    if (!by_record.contains(at)) {
      Record record = fs_->read_record(at);
      if (!record.in_use() || record.reference() != item.record ||
          record.header().base.value() != base_.reference())
        damaged(fmt::format("record {}, which its list names, is not its own", at));
      by_record[at] = record.attributes();
      extensions_.emplace(at, std::move(record));
    }
    std::vector<Attribute>& there = by_record[at];
    const auto found = std::find_if(there.begin(), there.end(), [&](const Attribute& attribute) {
      return attribute.type() == item.type && attribute.instance() == item.instance &&
             attribute.lowest_vcn() == item.lowest_vcn && attribute.name() == item.name;
    });
    if (found == there.end() || item.type == type::attribute_list)
      damaged(fmt::format("its list names attribute {:#x} in record {}, which is not there",
                          item.type, at));
    extents_.push_back({*found, at});
    ++listed;
  }
  std::size_t there = 0;
  for (const auto& [at, attributes] : by_record) there += attributes.size();
  if (there != listed)
    damaged(
        fmt::format("its list names {} attributes, its records hold {}", listed - 1, there - 1));
}

std::optional<std::size_t> File::find(std::uint32_t type, std::u16string_view name) const {
  for (std::size_t i = 0; i < extents_.size(); ++i)
    if (extents_[i].attribute.type() == type && extents_[i].attribute.name() == name) return i;
  return std::nullopt;
}

std::size_t File::next_stream(std::size_t first) const {
  const Attribute& begin = extents_[first].attribute;
  std::size_t next = first + 1;
  // Names of one file stand side by side, but are attributes of their own.
  if (begin.resident()) return next;
  while (next < extents_.size() && !extents_[next].attribute.resident() &&
         extents_[next].attribute.lowest_vcn() != 0 && begin.same_stream(extents_[next].attribute))
    ++next;
  return next;
}

ClusterRuns File::runs(std::size_t first) const {
  ClusterRuns all;
  std::uint64_t end = 0;
  for (std::size_t i = first; i < next_stream(first); ++i) {
    const Attribute& piece = extents_[i].attribute;
    if (piece.lowest_vcn() != end)
      damaged(fmt::format("{}: a piece begins at cluster {}, the one in front ends at {}", text(i),
                          piece.lowest_vcn(), end),
              "NTFS");
    const ClusterRuns runs =
        at_place([&] { return text(i); }, [&] { return piece.runs(fs_->geometry().clusters); });
    all.insert(all.end(), runs.begin(), runs.end());
    end = piece.vcn_end();
  }
  return all;
}

Stream File::stream(std::size_t first) const {
  const Attribute& attribute = extents_[first].attribute;
  if (attribute.resident())
    return Stream(Buffer(attribute.value().begin(), attribute.value().end()));
  return Stream(fs_->store(), fs_->geometry(), runs(first), attribute.data_size(),
                attribute.initialized_size());
}

Stream File::stream(std::uint32_t type, std::u16string_view name) const {
  const auto first = find(type, name);
  if (!first)
    damaged(fmt::format("it has no attribute {:#x}, which it must have", type),
            record_text(number()));
  return stream(*first);
}

std::string File::text(std::size_t piece) const {
  const Attribute& attribute = extents_[piece].attribute;
  std::string name;
  for (const char16_t unit : attribute.name())
    name += unit >= 0x20 && unit < 0x7F ? static_cast<char>(unit) : '?';
  return fmt::format("file {}, attribute {:#x}{}{}", number(), attribute.type(),
                     name.empty() ? "" : " ", name);
}

}  // namespace jh::ntfs

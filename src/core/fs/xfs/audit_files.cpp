#include "core/fs/xfs/audit_files.h"

#include <algorithm>

#include "core/base/ranges.h"
#include "core/fs/xfs/content_format.h"

namespace jh::xfs {

void audit_fields(const Geometry& geometry, const InodeFile& file, const Observer& observer) {
  const Inode& core = file.core();
  const std::uint16_t flags = core.flags.value();
  const std::uint64_t flags2 = core.flags2.value();
  const bool many =
      geometry.is(incompatible::large_extent_counts) && (flags2 & has_many_extents) != 0;
  if ((flags & ~known_inode_flags) != 0 || (flags2 & ~known_inode_flags2) != 0)
    observer.say("it has flags that nobody knows");
  if ((flags & real_time) != 0) observer.say("its content is on a device that there is not");
  if ((!file.is_folder() && (flags & of_folders) != 0) ||
      (!file.is_file() && (flags & extent_hint_flag) != 0) ||
      (!file.is_file() && (flags2 & shares_extents) != 0) ||
      (!file.is_file() && !file.is_folder() && (flags2 & (has_copy_hint | direct_access)) != 0) ||
      ((flags2 & (shares_extents | has_copy_hint)) != 0 &&
       !geometry.has(ro_compatible::shared_extents)) ||
      ((flags2 & has_many_extents) != 0 && !many) ||
      ((flags2 & has_big_time) != 0 && !geometry.is(incompatible::big_time)))
    observer.say("it has a flag that does not suit it");
  // What a fork can be, by the kind of the file.
  const bool has_text = file.is_folder() || file.is_link();
  const bool has_content = file.is_folder() || file.is_file() || file.is_link();
  const bool right = core.format == fork::local     ? has_text
                     : core.format == fork::extents ? has_content
                     : core.format == fork::tree    ? has_content && !file.is_link()
                                                    : core.format == fork::device && !has_content;
  const bool attributes_right =
      core.fork_offset == 0
          ? core.attribute_format == fork::extents || core.attribute_format == fork::device
          : core.attribute_format >= fork::local && core.attribute_format <= fork::tree;
  if (!right || !attributes_right) observer.say("its content is of a form that does not suit it");
  if ((core.extent_hint.value() != 0 && (flags & (extent_hint_flag | folder_hint_flag)) == 0) ||
      (core.copy_extent_hint.value() != 0 && (flags2 & has_copy_hint) == 0))
    observer.say("it has a hint of a size that its flags do not know of");
  if (core.extent_hint.value() == 0 && (flags & (extent_hint_flag | folder_hint_flag)) != 0)
    observer.say("its flags speak of a hint of a size that it does not have");
  if (core.old_links.value() != 0 || (!many && core.many_extents.value() != 0))
    observer.say("what must be zero in it is not");
  if (core.links.value() != 0 && core.next_unlinked.value() != not_listed)
    observer.say("it has names, and waits to be freed");
}

namespace {

constexpr std::size_t attributes_begin = sizeof(IndexHeader) + sizeof(AttributeCounts);

struct RemoteValue {
  std::uint64_t block = 0;
  std::uint64_t bytes = 0;
};

constexpr std::uint8_t known_flags = attribute::local | attribute::root | attribute::secure |
                                     attribute::parent | attribute::incomplete;

// A name is in one of three spaces, or is that of a folder's entry, of which the value is a folder.
bool is_possible(const Geometry& geometry, std::uint8_t flags, std::size_t value) {
  if ((flags & ~known_flags) != 0) return false;
  const std::uint8_t space = flags & (attribute::root | attribute::secure | attribute::parent);
  if ((space & (space - 1)) != 0) return false;
  return space != attribute::parent ||
         (geometry.is(incompatible::parent_pointers) && value == sizeof(ParentPointer));
}

std::uint32_t expected_hash(ConstByteSpan bytes, const Attribute& each) {
  if (!each.is_parent()) return hash_of(each.name);
  return hash_of_parent(each.name, parse_as<ParentPointer>(bytes, each.value).folder.value());
}

void tell(const ParentSeen& parent, ConstByteSpan bytes, const Attribute& each) {
  if (each.is_parent())
    parent(std::string(each.name.begin(), each.name.end()),
           parse_as<ParentPointer>(bytes, each.value));
}

// One leaf: names in their order, none on another. Gives back the largest hash.
std::uint32_t check_leaf(const Geometry& geometry, ConstByteSpan bytes, const ForkBlocks& fork,
                         std::vector<RemoteValue>& values, const ParentSeen& parent) {
  const auto counts = parse_as<AttributeCounts>(bytes, sizeof(IndexHeader));
  const std::size_t count = counts.count.value();
  if (count > (bytes.size() - attributes_begin) / sizeof(AttributeEntry))
    fork.fail("a leaf of its attributes is too long");
  const std::size_t entries_end = attributes_begin + count * sizeof(AttributeEntry);
  const std::size_t first =
      counts.first_used.value() == 0 ? bytes.size() : counts.first_used.value();
  if (first < entries_end || first > bytes.size())
    fork.fail("a leaf of its attributes is impossible");
  Ranges taken;
  std::uint32_t largest = 0;
  std::uint64_t used = 0;
  for_each_leaf_attribute(bytes, [&](const Attribute& each) {
    if (each.hash < largest) fork.fail("a leaf of its attributes is not in order");
    largest = each.hash;
    const auto at = static_cast<std::size_t>(each.whole.data() - bytes.data());
    const bool local = (each.flags & attribute::local) != 0;
    if (at < first || each.name.empty() ||
        !is_possible(geometry, each.flags, local ? parse_as<Be16>(bytes, at).value() : 0) ||
        overlaps(taken, at, at + each.whole.size()))
      fork.fail("an attribute of it is impossible");
    add_range(taken, at, at + each.whole.size());
    used += each.whole.size();
    if (expected_hash(bytes, each) != largest) fork.fail("an attribute of it has the wrong hash");
    if ((each.flags & attribute::incomplete) != 0) fork.fail("an attribute of it is unfinished");
    tell(parent, bytes, each);
    if (!local)
      values.push_back({parse_as<Be32>(bytes, at).value(), parse_as<Be32>(bytes, at + 4).value()});
  });
  if (used != counts.used.value()) fork.fail("a leaf of its attributes counts wrongly");
  for (const auto& [offset, size] : counts.free)
    if (size.value() != 0 && (offset.value() < entries_end ||
                              std::size_t{offset.value()} + size.value() > bytes.size() ||
                              overlaps(taken, offset.value(), offset.value() + size.value())))
      fork.fail("free room among its attributes is in use");
  return largest;
}

void check_value(Store& place, const Geometry& geometry, const InodeFile& file,
                 const ForkBlocks& fork, const RemoteValue& value) {
  if (value.block == 0 || value.bytes > 65536) fork.fail("the value of an attribute is impossible");
  const std::uint64_t room = geometry.block_size() - sizeof(TextHeader);
  for (std::uint64_t done = 0, i = 0; done < value.bytes; ++i) {
    const auto at = fork.where(value.block + i);
    if (!at) fork.fail("the value of an attribute leads to a block that it does not have");
    const Buffer bytes = read_buffer(place, *at, geometry.block_size());
    const auto header = parse_as<TextHeader>(bytes, 0);
    const std::uint64_t part = std::min(room, value.bytes - done);
    if (header.magic.value() != block_magic::remote_value || header.offset.value() != done ||
        header.bytes.value() != part || header.owner.value() != file.number() ||
        header.uuid != geometry.metadata_uuid() || header.address.value() * basic_block != *at ||
        !checksum_matches(bytes, offsetof(TextHeader, checksum)))
      fork.fail("the value of an attribute is damaged");
    done += part;
  }
}

void audit_short_attributes(const Geometry& geometry, const InodeFile& file,
                            const Observer& observer, const ParentSeen& parent) {
  const ConstByteSpan bytes = file.attribute_fork();
  std::size_t end = sizeof(ShortAttributes);
  bool possible = true;
  for_each_short_attribute(bytes, [&](const Attribute& each) {
    const std::size_t value = bytes[each.value - each.name.size() - 2];
    end = each.value + value;
    if (each.name.empty() || !is_possible(geometry, each.flags, value))
      possible = false;
    else
      tell(parent, bytes, each);
  });
  if (!possible) observer.say("an attribute of it is impossible");
  if (end != parse_as<ShortAttributes>(bytes, 0).size.value())
    observer.say("its attributes have another length than they say");
}

}  // namespace

void audit_attributes(Store& place, const Geometry& geometry, const InodeFile& file,
                      const Observer& observer, const ParentSeen& parent) {
  if (file.attribute_fork().empty()) return;
  if (file.core().attribute_format == fork::local)
    return audit_short_attributes(geometry, file, observer, parent);
  const ForkBlocks fork(geometry, file, true, geometry.block_size(), observer);
  if (fork.extents().empty()) return;
  std::vector<RemoteValue> values;
  IndexWalk walk(fork, [&](std::uint64_t, ConstByteSpan bytes, std::uint16_t magic) {
    if (magic != block_magic::attribute_leaf) fork.fail("a leaf of its attributes is none");
    return check_leaf(geometry, bytes, fork, values, parent);
  });
  walk.visit(0);
  walk.end();
  for (const RemoteValue& value : values) check_value(place, geometry, file, fork, value);
}

namespace {
bool has_zero(ConstByteSpan text) { return std::find(text.begin(), text.end(), 0) != text.end(); }
}  // namespace

void audit_link_text(Store& place, const Geometry& geometry, const InodeFile& link,
                     const Observer& observer) {
  if (link.core().format == fork::local) {
    if (link.size() == 0 || link.size() > link.data_fork().size())
      return observer.say("the text of the link does not fit in it");
    if (has_zero(link.data_fork().first(link.size())))
      observer.say("the text of the link has a zero in it");
    return;
  }
  std::uint64_t done = 0;
  std::uint64_t next = 0;
  for (const FileExtent& extent : link.extents()) {
    if (extent.offset != next) return observer.say("the text of the link has a hole");
    next += extent.count;
    if (done == link.size()) break;
    const std::uint64_t at = geometry.block_at(extent.block);
    if (extent.count * geometry.block_size() > (1U << 17))
      return observer.say("the text of the link is longer than can be");
    const Buffer bytes = read_buffer(place, at, extent.count * geometry.block_size());
    const auto header = parse_as<TextHeader>(bytes, 0);
    const std::uint64_t part =
        std::min<std::uint64_t>(bytes.size() - sizeof(TextHeader), link.size() - done);
    if (header.magic.value() != block_magic::link_text || header.offset.value() != done ||
        header.bytes.value() != part || header.owner.value() != link.number() ||
        header.uuid != geometry.metadata_uuid() || header.address.value() * basic_block != at ||
        !checksum_matches(bytes, offsetof(TextHeader, checksum)))
      return observer.say("the text of the link is damaged");
    if (has_zero(ConstByteSpan(bytes).subspan(sizeof(TextHeader), part)))
      return observer.say("the text of the link has a zero in it");
    observer.written(header.log_sequence.value());
    done += part;
  }
  if (done != link.size()) observer.say("the text of the link is cut off");
}

}  // namespace jh::xfs

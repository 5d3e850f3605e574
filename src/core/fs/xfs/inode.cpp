#include "core/fs/xfs/inode.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/xfs/content_format.h"

namespace jh::xfs {
namespace {

constexpr std::uint64_t most_extents = 1U << 20;  // that are kept in memory for one file

}  // namespace

void InodeFile::fail(const std::string& what) const {
  corrupt(fmt::format("inode {}: {}", number_, what));
}

InodeFile::InodeFile(Store& place, const Geometry& geometry, std::uint64_t number)
    : place_(place), geometry_(geometry), number_(number) {
  bytes_ = read_buffer(place, geometry.inode_at(number), geometry.superblock().inode_size.value());
  core_ = parse_as<Inode>(bytes_, 0);
  if (core_.magic.value() != inode_magic || core_.version != 3) fail("it is none");
  if (!checksum_matches(bytes_, offsetof(Inode, checksum))) fail("its checksum is wrong");
  if (core_.number.value() != number || core_.uuid != geometry.metadata_uuid())
    fail("it is another one");
  if (std::size_t{core_.fork_offset} * 8 > bytes_.size() - sizeof(Inode))
    fail("its attributes begin outside of it");
}

ConstByteSpan InodeFile::data_fork() const {
  const std::size_t room =
      core_.fork_offset == 0 ? bytes_.size() - sizeof(Inode) : std::size_t{core_.fork_offset} * 8;
  return ConstByteSpan(bytes_).subspan(sizeof(Inode), room);
}

ConstByteSpan InodeFile::attribute_fork() const {
  if (core_.fork_offset == 0) return {};
  return ConstByteSpan(bytes_).subspan(sizeof(Inode) + std::size_t{core_.fork_offset} * 8);
}

void InodeFile::add_extents(ConstByteSpan data, std::size_t count,
                            std::vector<FileExtent>& out) const {
  if (count > data.size() / sizeof(EncodedExtent)) fail("it has more extents than room for them");
  for (std::size_t i = 0; i < count; ++i) {
    const auto encoded = parse_as<EncodedExtent>(data, i * sizeof(EncodedExtent));
    const std::uint64_t high = encoded.high.value();
    const std::uint64_t low = encoded.low.value();
    FileExtent extent;
    extent.unwritten = high >> 63 != 0;
    extent.offset = (high & ~(1ULL << 63)) >> 9;
    extent.block = (high & 0x1FF) << 43 | low >> 21;
    extent.count = low & ((1ULL << 21) - 1);
    if (extent.count == 0) fail("an extent of it is empty");
    geometry_.block_at(extent.block);
    if (geometry_.block_in_group(extent.block) + extent.count >
        geometry_.blocks_of(geometry_.group_of(extent.block)))
      fail("an extent of it leaves its group");
    if (!out.empty() && extent.offset < out.back().offset + out.back().count)
      fail("its extents overlap");
    if (out.size() == most_extents) fail("it has too many extents");
    out.push_back(extent);
  }
}

std::uint64_t InodeFile::extents_said(bool attributes) const {
  const bool many = geometry_.is(incompatible::large_extent_counts) &&
                    (core_.flags2.value() & has_many_extents) != 0;
  if (many) return attributes ? core_.extents.value() : core_.many_extents.value();
  return attributes ? core_.attribute_extents.value() : core_.extents.value();
}

std::vector<FileExtent> InodeFile::extents(bool attributes,
                                           const std::function<void(std::uint64_t)>& node) const {
  std::vector<FileExtent> out;
  const ConstByteSpan fork = attributes ? attribute_fork() : data_fork();
  const std::uint8_t format = attributes ? core_.attribute_format : core_.format;
  if (attributes && fork.empty()) return out;
  if (format == fork::extents) {
    add_extents(fork, extents_said(attributes), out);
  } else if (format == fork::tree) {
    // The root: level, count, keys of 8 bytes, then places of 8 bytes.
    if (fork.size() < 20) fail("it has no room for a tree");
    const unsigned level = parse_as<Be16>(fork, 0).value();
    const std::size_t count = parse_as<Be16>(fork, 2).value();
    const std::size_t most = (fork.size() - 4) / 16;
    if (level == 0 || level > 9 || count > most) fail("the root of its extents is impossible");
    TreeWalk<std::uint64_t> so_far(geometry_.blocks(), level);
    for (std::size_t i = 0; i < count; ++i)
      walk_tree(parse_as<Be64>(fork, 4 + most * 8 + i * 8).value(), level - 1, attributes, so_far,
                node, out);
    if (!so_far.is_whole()) fail("a last block of its extents has another on its right");
  }
  return out;
}

void InodeFile::walk_tree(std::uint64_t block, unsigned level, bool attributes,
                          TreeWalk<std::uint64_t>& so_far,
                          const std::function<void(std::uint64_t)>& node,
                          std::vector<FileExtent>& out) const {
  if (!so_far.enter()) fail("the tree of its extents leads in a circle");
  const Buffer bytes = read_buffer(place_, geometry_.block_at(block), geometry_.block_size());
  const auto header = parse_as<LongTreeHeader>(bytes, 0);
  if (header.magic.value() != tree_magic::extents || header.level.value() != level ||
      header.owner.value() != number_ || header.uuid != geometry_.metadata_uuid() ||
      header.address.value() * basic_block != geometry_.block_at(block) ||
      !checksum_matches(bytes, offsetof(LongTreeHeader, checksum)))
    fail("a block of the tree of its extents is damaged");
  if (!so_far.is_left(level, header.left.value()) || !so_far.is_next(level, block))
    fail("the blocks of the tree of its extents do not stand side by side");
  so_far.pass(level, block, header.right.value());
  if (node) node(block);
  const std::size_t count = header.records.value();
  const ConstByteSpan data = ConstByteSpan(bytes).subspan(sizeof(LongTreeHeader));
  if (level == 0) {
    add_extents(data, count, out);
    return;
  }
  const std::size_t most = data.size() / 16;
  if (count > most) fail("a block of the tree of its extents has too many keys");
  for (std::size_t i = 0; i < count; ++i)
    walk_tree(parse_as<Be64>(data, most * 8 + i * 8).value(), level - 1, attributes, so_far, node,
              out);
}

Buffer InodeFile::read(std::uint64_t offset, std::uint64_t length) const {
  if (core_.format != fork::local) return read(extents(), offset, length);
  Buffer out(length);
  const ConstByteSpan inside = data_fork();
  for (std::uint64_t i = 0; i < length && offset + i < inside.size(); ++i)
    out[i] = inside[offset + i];
  return out;
}

Buffer InodeFile::read(const std::vector<FileExtent>& all, std::uint64_t offset,
                       std::uint64_t length) const {
  Buffer out(length);
  const std::uint64_t block = geometry_.block_size();
  auto extent =
      std::upper_bound(all.begin(), all.end(), offset / block,
                       [](std::uint64_t at, const FileExtent& each) { return at < each.offset; });
  if (extent != all.begin()) --extent;
  for (; extent != all.end() && extent->offset * block < offset + length; ++extent) {
    const std::uint64_t start = extent->offset * block;
    const std::uint64_t from = std::max(start, offset);
    const std::uint64_t to = std::min(start + extent->count * block, offset + length);
    if (from >= to || extent->unwritten) continue;
    place_.read(geometry_.block_at(extent->block) + (from - start),
                ByteSpan(out).subspan(from - offset, to - from));
  }
  return out;
}

void InodeFile::for_each_entry(const std::function<void(const Entry&)>& visit) const {
  for_each_name([&](const Entry& entry) {
    if (entry.name != "." && entry.name != "..") visit(entry);
  });
}

void InodeFile::for_each_name(const std::function<void(const Entry&)>& visit) const {
  if (core_.format == fork::local) {
    short_folder(visit);
    return;
  }
  for_each_folder_block(
      [&](ConstByteSpan block, std::uint64_t address) { names_in(block, address, visit); });
}

void InodeFile::for_each_folder_block(
    const std::function<void(ConstByteSpan, std::uint64_t)>& visit) const {
  if (core_.format == fork::local) return;
  const std::uint64_t unit = geometry_.directory_block();
  const std::uint64_t per_unit = unit / geometry_.block_size();
  const std::uint64_t end = std::min(size(), directory_leaves_at) / unit;  // in directory blocks
  const std::vector<FileExtent> all = extents();
  std::uint64_t next = 0;  // that was not read yet
  for (const FileExtent& extent : all) {
    const std::uint64_t last = (extent.offset + extent.count - 1) / per_unit;
    for (std::uint64_t i = std::max(extent.offset / per_unit, next); i <= last; ++i) {
      if (i >= end) return;
      visit(read(all, i * unit, unit), i * unit);
      next = i + 1;
    }
  }
}

// "Short form directories": count, count of long numbers, the parent, then the entries.
void InodeFile::short_folder(const std::function<void(const Entry&)>& visit) const {
  const ConstByteSpan data = data_fork();
  if (data.size() < 6 || size() > data.size()) fail("its list of names leaves it");
  const std::size_t count = data[0];
  const std::size_t wide = data[1] != 0 ? 8 : 4;
  const std::size_t kind = geometry_.is(incompatible::file_types) ? 1 : 0;
  const auto number = [&](std::size_t where) {
    return wide == 8 ? parse_as<Be64>(data, where).value() : parse_as<Be32>(data, where).value();
  };
  std::size_t at = 2 + wide;
  if (at > data.size()) fail("its list of names leaves it");
  constexpr std::uint8_t folder_type = 2;
  visit({"..", number(2), kind == 0 ? std::uint8_t{0} : folder_type, 0});
  for (std::size_t i = 0; i < count; ++i) {
    if (at + 3 > data.size()) fail("its list of names is cut off");
    const std::size_t length = data[at];
    const std::size_t number_at = at + 3 + length + kind;
    if (length == 0 || number_at + wide > data.size()) fail("its list of names is cut off");
    Entry entry;
    entry.name.assign(reinterpret_cast<const char*>(&data[at + 3]), length);
    if (kind != 0) entry.type = data[at + 3 + length];
    entry.inode = number(number_at);
    visit(entry);
    at = number_at + wide;
  }
  if (at != size()) fail("its list of names has another length than it says");
}

void InodeFile::names_in(ConstByteSpan block, std::uint64_t address,
                         const std::function<void(const Entry&)>& visit) const {
  const auto header = parse_as<DirectoryHeader>(block, 0);
  const std::uint32_t magic = header.magic.value();
  if ((magic != one_block_magic && magic != data_block_magic) || header.owner.value() != number_ ||
      header.uuid != geometry_.metadata_uuid() ||
      !checksum_matches(block, offsetof(DirectoryHeader, checksum)))
    fail("a block of its names is damaged");
  std::size_t end = block.size();
  if (magic == one_block_magic) {
    // At its end: the index, and how many entries that has.
    const std::uint64_t entries = parse_as<Be32>(block, block.size() - 8).value();
    if (entries > (block.size() - sizeof(DirectoryHeader) - 8) / 8)
      fail("the index of its names is too long");
    end = block.size() - 8 - entries * 8;
  }
  const std::size_t kind = geometry_.is(incompatible::file_types) ? 1 : 0;
  for (std::size_t at = sizeof(DirectoryHeader); at < end;) {
    if (at + 8 > end) fail("a block of its names is cut off");  // free room may be so small
    if (parse_as<Be16>(block, at).value() == 0xFFFF) {
      const std::size_t length = parse_as<Be16>(block, at + 2).value();
      if (length == 0 || length % 8 != 0 || at + length > end)
        fail("free room among its names is impossible");
      if (length >= 8 && parse_as<Be16>(block, at + length - 2).value() != at)
        fail("free room among its names says that it is elsewhere");
      at += length;
      continue;
    }
    const std::size_t length = at + 8 < end ? block[at + 8] : 0;
    const std::size_t whole = (8 + 1 + length + kind + 2 + 7) / 8 * 8;
    if (length == 0 || at + whole > end) fail("a name of it is impossible");
    Entry entry;
    entry.name.assign(reinterpret_cast<const char*>(&block[at + 9]), length);
    entry.inode = parse_as<Be64>(block, at).value();
    if (kind != 0) entry.type = block[at + 9 + length];
    entry.address = address + at;
    if (parse_as<Be16>(block, at + whole - 2).value() != at)
      fail("a name of it says that it stands elsewhere");
    visit(entry);
    at += whole;
  }
}

std::optional<std::uint64_t> find_path(Store& place, const Geometry& geometry,
                                       const std::string& path) {
  constexpr unsigned most_links = 16;
  std::vector<std::string> waiting;  // the last one comes first
  const auto add = [&](const std::string& text) {
    std::vector<std::string> parts;
    for (std::size_t at = 0; at < text.size();) {
      const std::size_t end = std::min(text.find('/', at), text.size());
      if (end != at) parts.push_back(text.substr(at, end - at));
      at = end + 1;
    }
    waiting.insert(waiting.end(), parts.rbegin(), parts.rend());
  };
  add(path);
  std::vector<std::uint64_t> folders{geometry.superblock().root_inode.value()};
  unsigned links = 0;
  while (!waiting.empty()) {
    const std::string name = waiting.back();
    waiting.pop_back();
    if (name == ".") continue;
    if (name == "..") {
      if (folders.size() > 1) folders.pop_back();
      continue;
    }
    const InodeFile folder(place, geometry, folders.back());
    if (!folder.is_folder()) return std::nullopt;
    std::optional<std::uint64_t> found;
    folder.for_each_entry([&](const InodeFile::Entry& entry) {
      if (entry.name == name) found = entry.inode;
    });
    if (!found) return std::nullopt;
    const InodeFile next(place, geometry, *found);
    if (!next.is_link()) {
      folders.push_back(*found);
      continue;
    }
    // A link to a long name has it in blocks with headers of their own: too long to be worth
    // following.
    if (++links > most_links || next.core().format != fork::local) return std::nullopt;
    const Buffer target = next.read(0, std::min<std::uint64_t>(next.size(), 1024));
    const std::string text(target.begin(), target.end());
    if (text.starts_with("/")) folders.resize(1);
    add(text);
  }
  return folders.back();
}

}  // namespace jh::xfs

#include "core/fs/ext/read.h"

#include <fmt/format.h>

#include <deque>
#include <unordered_set>

namespace jh::ext {
namespace {

[[noreturn]] void broken(const std::string& what) {
  damaged(what, "ext filesystem", "check the filesystem inside the guest first");
}

// Entries of one block (or inline area); returns false when visit did.
bool read_entries(ConstByteSpan raw, std::uint32_t block_size, std::uint32_t ino,
                  const std::function<bool(const DirectoryEntry&)>& visit) {
  for (std::size_t at = 0; at + sizeof(DirEntry) <= raw.size();) {
    const auto entry = parse_as<DirEntry>(raw, at);
    const std::uint32_t length = entry_length(entry.rec_len.value(), block_size);
    if (length < sizeof(DirEntry) || length % 4 != 0 || length > raw.size() - at ||
        entry.name_len + sizeof(DirEntry) > length)
      broken(fmt::format("directory inode {} has a broken entry", ino));
    if (entry.inode.value() != 0 && entry.name_len != 0) {
      const char* name = reinterpret_cast<const char*>(raw.data() + at + sizeof(DirEntry));
      if (!visit({entry.inode.value(), entry.file_type, std::string(name, entry.name_len)}))
        return false;
    }
    at += length;
  }
  return true;
}

// Calls visit(logical block, content) for each written block of a directory.
void for_each_directory_block(Filesystem& fs, const InodeRecord& directory,
                              const std::function<bool(ConstByteSpan)>& visit) {
  const std::uint64_t blocks = ceil_div(directory.size(), fs.geometry().block_size);
  BlockVisitor visitor;
  visitor.data = [&](const MappedExtent& run) {
    if (run.unwritten) return true;
    for (std::uint64_t i = 0; i < run.count && run.logical + i < blocks; ++i)
      if (!visit(fs.read_block(run.physical + i))) return false;
    return true;
  };
  visit_blocks(fs, directory, visitor);
}

// The index blocks of a hashed directory look like one empty entry each, so that a reader who does
// not know the index still finds every name; but the root's ".." spans the index itself.
bool read_block_entries(Filesystem& fs, const InodeRecord& directory,
                        const std::function<bool(const DirectoryEntry&)>& visit) {
  bool go_on = true;
  for_each_directory_block(fs, directory, [&](ConstByteSpan block) {
    go_on = read_entries(block, fs.geometry().block_size, directory.ino, visit);
    return go_on;
  });
  return go_on;
}

}  // namespace

std::uint32_t entry_length(std::uint16_t raw, std::uint32_t block_size) {
  if (block_size < 65536) return raw;
  if (raw == 0 || raw == 65535) return 65536;
  return (raw & 65532U) | ((raw & 3U) << 16);
}

void for_each_used_inode(Filesystem& fs, std::uint32_t number,
                         const std::function<void(std::uint32_t)>& visit) {
  const Geometry& g = fs.geometry();
  const Group group = fs.group(number);
  if (group.inode_uninit()) return;
  const Buffer used = fs.inode_bitmap(number);
  const std::uint32_t count =
      g.inodes_per_group - std::min(group.itable_unused, g.inodes_per_group);
  for (std::uint32_t index = 0; index < count; ++index)
    if (test_bit(used, index)) visit(number * g.inodes_per_group + index + 1);
}

std::optional<std::size_t> attributes_at(const InodeRecord& inode) {
  const std::size_t start = old_inode_size + inode.fields.extra_isize.value() + sizeof(Le32);
  if (inode.raw.size() <= old_inode_size || start > inode.raw.size() ||
      parse_as<Le32>(inode.raw, start - sizeof(Le32)).value() != xattr_magic)
    return std::nullopt;
  return start;
}

bool change_value_inodes(ByteSpan entries,
                         const std::function<std::uint32_t(std::uint32_t)>& change) {
  bool changed = false;
  for (std::size_t at = 0; at + sizeof(XattrEntry) <= entries.size();) {
    auto entry = parse_as<XattrEntry>(entries, at);
    if (entry.name_len == 0 && entry.name_index == 0 && entry.value_offs.value() == 0) break;
    const std::uint32_t was = entry.value_inum.value();
    const std::uint32_t now = was == 0 ? 0 : change(was);
    if (now != was) {
      entry.value_inum = now;
      put_at(entries, at, entry);
      changed = true;
    }
    at += (sizeof(XattrEntry) + entry.name_len + 3U) / 4 * 4;
  }
  return changed;
}

std::optional<std::pair<std::size_t, std::size_t>> inline_rest(const InodeRecord& inode) {
  const auto start = attributes_at(inode);
  if (!start) return std::nullopt;
  const ConstByteSpan area = ConstByteSpan(inode.raw).subspan(*start);
  std::optional<std::pair<std::size_t, std::size_t>> found;
  for (std::size_t at = 0; at + sizeof(XattrEntry) <= area.size();) {
    const auto entry = parse_as<XattrEntry>(area, at);
    if (entry.name_len == 0 && entry.name_index == 0) break;
    const std::size_t name_at = at + sizeof(XattrEntry);
    if (entry.name_len > area.size() - name_at) break;
    const std::string name(reinterpret_cast<const char*>(area.data() + name_at), entry.name_len);
    if (entry.name_index == xattr_index_system && name == "data" && entry.value_inum.value() == 0) {
      const std::size_t value_at = entry.value_offs.value();
      const std::size_t value_size = entry.value_size.value();
      if (value_at > area.size() || value_size > area.size() - value_at)
        broken(fmt::format("inode {} has inline data outside of the inode", inode.ino));
      found = {*start + value_at, value_size};
    }
    at = name_at + (entry.name_len + 3U) / 4 * 4;
  }
  return found;
}

Buffer inline_data(const InodeRecord& inode, bool* complete) {
  const ConstByteSpan raw(inode.raw);
  const ConstByteSpan block = raw.subspan(offsetof(Inode, block), sizeof(Inode::block));
  Buffer data(block.begin(), block.end());
  const auto rest = inline_rest(inode);
  if (complete != nullptr) *complete = rest.has_value();
  if (!rest) return data;
  const ConstByteSpan value = raw.subspan(rest->first, rest->second);
  data.insert(data.end(), value.begin(), value.end());
  return data;
}

void read_directory(Filesystem& fs, const InodeRecord& directory,
                    const std::function<bool(const DirectoryEntry&)>& visit) {
  if (directory.type() != mode_dir)
    broken(fmt::format("inode {} is not a directory", directory.ino));
  if (!directory.has_flag(flag_inline_data)) {
    read_block_entries(fs, directory, visit);
    return;
  }
  // Inline: the parent's number first, then entries; the attribute's part is a second such area.
  const Buffer data = inline_data(directory);
  if (!visit({directory.ino, 2, "."})) return;
  if (!visit({parse_as<Le32>(data, 0).value(), 2, ".."})) return;
  constexpr std::size_t in_inode = sizeof(Inode::block);
  const ConstByteSpan all(data);
  const auto entries = [&](ConstByteSpan part) {
    return read_entries(part, fs.geometry().block_size, directory.ino, visit);
  };
  if (!entries(all.subspan(4, in_inode - 4))) return;
  if (data.size() > in_inode) entries(all.subspan(in_inode));
}

Buffer read_file(Filesystem& fs, const InodeRecord& file, std::uint64_t limit) {
  const std::uint64_t length = std::min(file.size(), limit);
  if (file.has_flag(flag_inline_data)) {
    Buffer data = inline_data(file);
    data.resize(std::min<std::uint64_t>(length, data.size()));
    return data;
  }
  Buffer data(length);
  const std::uint64_t bs = fs.geometry().block_size;
  BlockVisitor visitor;
  visitor.data = [&](const MappedExtent& run) {
    const std::uint64_t at = run.logical * bs;
    if (at >= length) return false;
    if (!run.unwritten)
      fs.store().read(fs.geometry().offset(run.physical),
                      ByteSpan(data).subspan(at, std::min(length - at, run.count * bs)));
    return true;
  };
  visit_blocks(fs, file, visitor);
  return data;
}

std::string read_link(Filesystem& fs, const InodeRecord& link) {
  if (has_blocks(link) || link.has_flag(flag_inline_data)) {
    const Buffer data = read_file(fs, link, fs.geometry().block_size);
    return {data.begin(), data.end()};
  }
  const std::size_t length = std::min<std::uint64_t>(link.size(), sizeof(Inode::block));
  const char* text = reinterpret_cast<const char*>(link.raw.data() + offsetof(Inode, block));
  return {text, length};
}

std::optional<InodeRecord> find_path(Filesystem& fs, const std::string& path) {
  std::deque<std::string> parts;
  const auto push_front = [&](const std::string& text) {
    std::vector<std::string> pieces;
    for (std::size_t at = 0; at <= text.size();) {
      const std::size_t slash = std::min(text.find('/', at), text.size());
      if (slash > at) pieces.push_back(text.substr(at, slash - at));
      at = slash + 1;
    }
    parts.insert(parts.begin(), pieces.begin(), pieces.end());
  };
  push_front(path);
  std::vector<InodeRecord> trail{fs.read_inode(root_ino)};
  for (int links = 0; !parts.empty();) {
    const std::string part = parts.front();
    parts.pop_front();
    if (part == ".") continue;
    if (part == "..") {
      if (trail.size() > 1) trail.pop_back();
      continue;
    }
    if (trail.back().type() != mode_dir) return std::nullopt;
    std::uint32_t ino = 0;
    read_directory(fs, trail.back(), [&](const DirectoryEntry& entry) {
      if (entry.name == part) ino = entry.ino;
      return ino == 0;
    });
    if (ino == 0) return std::nullopt;
    InodeRecord inode = fs.read_inode(ino);
    if (inode.type() == mode_link) {
      if (++links > 40) return std::nullopt;
      const std::string target = read_link(fs, inode);
      if (target.starts_with('/')) trail.resize(1);
      push_front(target);
      continue;
    }
    trail.push_back(std::move(inode));
  }
  return trail.back();
}

std::optional<std::string> read_text(Filesystem& fs, const std::string& path, std::uint64_t limit) {
  const auto inode = find_path(fs, path);
  if (!inode || inode->type() != mode_file || inode->has_flag(flag_encrypt)) return std::nullopt;
  const Buffer data = read_file(fs, *inode, limit);
  return std::string(data.begin(), data.end());
}

void walk_tree(
    Filesystem& fs,
    const std::function<void(const std::string& path, const InodeRecord& inode)>& visit) {
  std::unordered_set<std::uint32_t> directories{root_ino};  // each is entered once, even in a loop
  std::deque<std::pair<std::string, std::uint32_t>> waiting{{"", root_ino}};
  visit("/", fs.read_inode(root_ino));
  while (!waiting.empty()) {
    const std::pair<std::string, std::uint32_t> here = waiting.front();
    waiting.pop_front();
    read_directory(fs, fs.read_inode(here.second), [&](const DirectoryEntry& entry) {
      if (entry.name == "." || entry.name == "..") return true;
      const InodeRecord inode = fs.read_inode(entry.ino);
      const std::string name = here.first + "/" + entry.name;
      visit(name, inode);
      if (inode.type() == mode_dir && directories.insert(entry.ino).second)
        waiting.emplace_back(name, entry.ino);
      return true;
    });
  }
}

}  // namespace jh::ext

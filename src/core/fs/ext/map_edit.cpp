#include "core/fs/ext/map_edit.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/checksum.h"
#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

constexpr std::size_t root_bytes = sizeof(Inode::block);
// The index root stands behind "." and "..", and behind its own facts.
constexpr std::size_t index_root_at = 24 + sizeof(IndexRootInfo);

std::uint32_t seed_of(const Filesystem& fs, const InodeRecord& inode) {
  return fs.checksums().inode_seed(inode.ino, inode.fields.generation.value());
}

// One level of the tree: entries of 12 bytes, and where each begins in the file.
struct Level {
  std::vector<std::array<std::uint8_t, sizeof(Extent)>> entries;
  std::vector<std::uint64_t> starts;
};

Level leaf_level(const std::vector<MappedRun>& runs) {
  Level level;
  for (const MappedRun& run : runs) {
    const std::uint64_t most = run.unwritten ? max_written_extent - 1 : max_written_extent;
    for (std::uint64_t done = 0; done < run.count; done += most) {
      const std::uint64_t count = std::min(most, run.count - done);
      const std::uint64_t physical = run.physical + done;
      Extent extent{};
      extent.block = static_cast<std::uint32_t>(run.logical + done);
      extent.len = static_cast<std::uint16_t>(count + (run.unwritten ? max_written_extent : 0));
      extent.start_lo = static_cast<std::uint32_t>(physical & 0xFFFFFFFF);
      extent.start_hi = static_cast<std::uint16_t>(physical >> 32);
      auto& raw = level.entries.emplace_back();
      std::memcpy(raw.data(), &extent, sizeof(extent));
      level.starts.push_back(run.logical + done);
    }
  }
  return level;
}

void put_node(ByteSpan raw, const Level& level, std::size_t first, std::size_t count,
              std::uint16_t most, std::uint16_t depth) {
  std::fill(raw.begin(), raw.end(), std::uint8_t{0});
  ExtentHeader header{};
  header.magic = extent_magic;
  header.entries = static_cast<std::uint16_t>(count);
  header.max = most;
  header.depth = depth;
  header.generation = 0;
  put_at(raw, 0, header);
  for (std::size_t i = 0; i < count; ++i)
    put_at(raw, sizeof(header) + i * sizeof(Extent), level.entries[first + i]);
}

// The level above: one index entry for each node of this one, which is written.
Level write_level(Filesystem& fs, Allocation& allocation, const InodeRecord& inode,
                  const Level& level, std::uint16_t depth, std::uint64_t& tree_blocks) {
  const Geometry& g = fs.geometry();
  const auto most =
      static_cast<std::uint16_t>((g.block_size - sizeof(ExtentHeader)) / sizeof(Extent));
  Level above;
  for (std::size_t first = 0; first < level.entries.size(); first += most) {
    const std::size_t count = std::min<std::size_t>(most, level.entries.size() - first);
    const auto block =
        allocation.allocate(1, g.group_first((inode.ino - 1) / g.inodes_per_group), {});
    if (!block) refuse("no free block is left for a file's list of extents", "ext filesystem");
    Buffer raw(g.block_size);
    put_node(raw, level, first, count, most, depth);
    set_extent_sum(fs, inode, raw);
    fs.store().write(g.offset(*block), raw);
    ++tree_blocks;
    ExtentIndex index{};
    index.block = static_cast<std::uint32_t>(level.starts[first]);
    index.leaf_lo = static_cast<std::uint32_t>(*block & 0xFFFFFFFF);
    index.leaf_hi = static_cast<std::uint16_t>(*block >> 32);
    index.unused = 0;
    auto& entry = above.entries.emplace_back();
    std::memcpy(entry.data(), &index, sizeof(index));
    above.starts.push_back(level.starts[first]);
  }
  return above;
}

void set_block_count(const Filesystem& fs, InodeRecord& inode, std::uint64_t blocks) {
  const Geometry& g = fs.geometry();
  if (inode.attribute_block() != 0) blocks += g.cluster_ratio;
  inode.set_counted(blocks * inode.count_unit(g));
}

std::size_t entry_bytes(std::size_t name_length) {
  return (sizeof(DirEntry) + name_length + 3) / 4 * 4;
}

std::size_t tail_bytes(const Filesystem& fs) {
  return fs.geometry().metadata_csum() ? sizeof(DirTail) : 0;
}

Le16 coded_length(std::size_t length) {
  Le16 raw;
  raw = static_cast<std::uint16_t>(length == 65536 ? 65535 : length);
  return raw;
}

void put_tail(const Filesystem& fs, const InodeRecord& directory, Buffer& raw) {
  if (!fs.geometry().metadata_csum()) return;
  const std::size_t at = raw.size() - sizeof(DirTail);
  DirTail tail{};
  tail.zero_inode = 0;
  tail.rec_len = sizeof(DirTail);
  tail.file_type = dir_tail_type;
  tail.checksum = crc32c_raw(seed_of(fs, directory), ConstByteSpan(raw).first(at));
  put_at(raw, at, tail);
}

std::uint8_t file_type_of(std::uint16_t mode) {
  switch (mode & mode_type) {
    case mode_file:
      return 1;
    case mode_dir:
      return 2;
    case mode_char:
      return 3;
    case mode_block:
      return 4;
    case mode_fifo:
      return 5;
    case mode_socket:
      return 6;
    case mode_link:
      return 7;
    default:
      return 0;
  }
}

void put_entry(const Filesystem& fs, Buffer& raw, std::size_t at, std::size_t length,
               const std::string& name, std::uint32_t ino, std::uint16_t mode) {
  DirEntry entry{};
  entry.inode = ino;
  entry.rec_len = coded_length(length);
  entry.name_len = static_cast<std::uint8_t>(name.size());
  entry.file_type = fs.geometry().has_incompat(incompat::filetype) ? file_type_of(mode) : 0;
  put_at(raw, at, entry);
  std::memcpy(raw.data() + at + sizeof(entry), name.data(), name.size());
}

// Calls visit(physical block, content) for every block of a directory until it returns true.
bool any_block(Filesystem& fs, const InodeRecord& directory,
               const std::function<bool(std::uint64_t, std::uint64_t, Buffer&)>& visit) {
  bool found = false;
  BlockVisitor visitor;
  visitor.data = [&](const MappedRun& run) {
    for (std::uint64_t i = 0; i < run.count && !found; ++i) {
      Buffer raw = fs.read_block(run.physical + i);
      found = visit(run.physical + i, run.logical + i, raw);
    }
    return !found;
  };
  visit_blocks(fs, directory, visitor);
  return found;
}

struct Place {
  std::size_t at = 0;
  std::size_t length = 0;
  DirEntry entry{};
  std::string name;
};

// The entries of a block; those of its tail are left out.
std::vector<Place> entries_of(const Filesystem& fs, const Buffer& raw) {
  std::vector<Place> places;
  const std::size_t end = raw.size() - tail_bytes(fs);
  for (std::size_t at = 0; at + sizeof(DirEntry) <= end;) {
    Place place;
    place.at = at;
    place.entry = parse_as<DirEntry>(raw, at);
    place.length = entry_length(place.entry.rec_len.value(), fs.geometry().block_size);
    if (place.length < 12 || place.length > end - at ||
        place.entry.name_len + sizeof(DirEntry) > place.length)
      damaged("a directory block is damaged", "ext filesystem");
    place.name.assign(reinterpret_cast<const char*>(raw.data() + at + sizeof(DirEntry)),
                      place.entry.name_len);
    places.push_back(place);
    at += place.length;
  }
  return places;
}

// Index blocks become plain ones: the root keeps "." and "..", a node one unused entry.
void give_up_index(Filesystem& fs, InodeRecord& directory) {
  const Geometry& g = fs.geometry();
  const Buffer root = fs.read_block(find_block(fs, directory, 0));
  const auto info = parse_as<IndexRootInfo>(root, 24);
  const std::uint8_t levels = info.indirect_levels;
  any_block(fs, directory, [&](std::uint64_t physical, std::uint64_t logical, Buffer& raw) {
    const auto first = parse_as<DirEntry>(raw, 0);
    const bool node = logical != 0 && levels != 0 && first.inode.value() == 0 &&
                      entry_length(first.rec_len.value(), g.block_size) == g.block_size;
    if (logical != 0 && !node) return false;
    const std::size_t at = logical == 0 ? 12 : 0;
    auto last = parse_as<DirEntry>(raw, at);
    const std::size_t end = raw.size() - tail_bytes(fs);
    last.rec_len = coded_length(end - at);
    put_at(raw, at, last);
    std::fill(raw.begin() + static_cast<std::ptrdiff_t>(at + 12), raw.end(), std::uint8_t{0});
    put_tail(fs, directory, raw);
    fs.store().write(g.offset(physical), raw);
    return false;
  });
  directory.fields.flags = directory.fields.flags.value() & ~flag_index;
}

}  // namespace

std::vector<MappedRun> read_runs(Filesystem& fs, const InodeRecord& inode) {
  std::vector<MappedRun> runs;
  BlockVisitor visitor;
  visitor.data = [&](const MappedRun& run) {
    runs.push_back(run);
    return true;
  };
  visit_blocks(fs, inode, visitor);
  return runs;
}

namespace {

struct TreeChange {
  std::uint64_t before = 0;  // blocks of the tree
  std::uint64_t after = 0;
};

TreeChange rebuild_tree(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                        const std::vector<MappedRun>& runs) {
  if (!inode.has_flag(flag_extents))
    unsupported(fmt::format("inode {} has no extents", inode.ino), "ext filesystem");
  TreeChange change;
  BlockVisitor old_tree;
  old_tree.data = [](const MappedRun&) { return true; };
  old_tree.tree = [&](std::uint64_t block) {
    allocation.release(block, 1);
    ++change.before;
    return true;
  };
  visit_blocks(fs, inode, old_tree);
  Level level = leaf_level(runs);
  std::uint16_t depth = 0;
  constexpr std::uint16_t most_in_root = (root_bytes - sizeof(ExtentHeader)) / sizeof(Extent);
  while (level.entries.size() > most_in_root) {
    level = write_level(fs, allocation, inode, level, depth, change.after);
    ++depth;
  }
  inode.store_fields();
  put_node(ByteSpan(inode.raw).subspan(offsetof(Inode, block), root_bytes), level, 0,
           level.entries.size(), most_in_root, depth);
  std::memcpy(&inode.fields, inode.raw.data(), std::min(inode.raw.size(), sizeof(Inode)));
  return change;
}

}  // namespace

void write_runs(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                const std::vector<MappedRun>& runs) {
  const TreeChange change = rebuild_tree(fs, allocation, inode, runs);
  std::uint64_t blocks = 0;
  for (const MappedRun& run : runs) blocks += run.count;
  set_block_count(fs, inode, blocks + change.after * fs.geometry().cluster_ratio);
}

std::int64_t replace_runs(Filesystem& fs, Allocation& allocation, InodeRecord& inode,
                          const std::vector<MappedRun>& runs) {
  const TreeChange change = rebuild_tree(fs, allocation, inode, runs);
  const std::uint64_t unit = inode.count_unit(fs.geometry()) * fs.geometry().cluster_ratio;
  inode.set_counted(
      checked_sub(checked_add(inode.counted(), change.after * unit), change.before * unit));
  return static_cast<std::int64_t>(change.after) - static_cast<std::int64_t>(change.before);
}

void set_directory_sum(const Filesystem& fs, const InodeRecord& directory, std::uint64_t logical,
                       Buffer& raw) {
  const std::uint32_t block_size = fs.geometry().block_size;
  const auto first = parse_as<DirEntry>(raw, 0);
  // A node of the index holds one empty entry as long as the block; a block of names has its tail.
  const bool node =
      directory.has_flag(flag_index) &&
      (logical == 0 ||
       (first.inode.value() == 0 && entry_length(first.rec_len.value(), block_size) == block_size));
  if (!node) {
    const auto tail = parse_as<DirTail>(raw, raw.size() - sizeof(DirTail));
    if (tail.file_type == dir_tail_type && tail.rec_len.value() == sizeof(DirTail))
      put_tail(fs, directory, raw);
    return;
  }
  const std::size_t at = logical == 0 ? index_root_at : sizeof(DirEntry);
  const auto counts = parse_as<IndexCountLimit>(raw, at);
  const std::size_t tail_at = at + counts.limit.value() * sizeof(IndexCountLimit);
  const std::size_t used = at + counts.count.value() * sizeof(IndexCountLimit);
  if (tail_at + sizeof(IndexTail) > raw.size() || used > tail_at)
    damaged(fmt::format("directory inode {}: its index is damaged", directory.ino),
            "ext filesystem", "check the filesystem inside the guest first");
  auto tail = parse_as<IndexTail>(raw, tail_at);
  tail.checksum = Checksums::index_block(seed_of(fs, directory), raw, used, tail_at);
  put_at(raw, tail_at, tail);
}

void sum_orphan_file(Filesystem& fs, const InodeRecord& inode) {
  if (!fs.geometry().metadata_csum()) return;
  const std::uint32_t seed = seed_of(fs, inode);
  BlockVisitor visitor;
  visitor.data = [&](const MappedRun& run) {
    for (std::uint64_t i = 0; i < run.count; ++i) {
      Buffer raw = fs.read_block(run.physical + i);
      const std::size_t at = raw.size() - sizeof(OrphanTail);
      auto tail = parse_as<OrphanTail>(raw, at);
      Le64 number;
      number = run.physical + i;
      tail.checksum = crc32c_raw(crc32c_raw(seed, bytes_of(number)), ConstByteSpan(raw).first(at));
      put_at(raw, at, tail);
      fs.store().write(fs.geometry().offset(run.physical + i), raw);
    }
    return true;
  };
  visit_blocks(fs, inode, visitor);
}

Buffer first_directory_block(const Filesystem& fs, const InodeRecord& directory,
                             std::uint32_t parent) {
  Buffer raw(fs.geometry().block_size);
  put_entry(fs, raw, 0, 12, ".", directory.ino, mode_dir);
  put_entry(fs, raw, 12, raw.size() - tail_bytes(fs) - 12, "..", parent, mode_dir);
  put_tail(fs, directory, raw);
  return raw;
}

bool add_name(Filesystem& fs, Allocation& allocation, InodeRecord& directory,
              const std::string& name, std::uint32_t ino, std::uint16_t mode) {
  const Geometry& g = fs.geometry();
  if (directory.has_flag(flag_inline_data))
    unsupported(fmt::format("directory inode {} lies inside its inode", directory.ino),
                "ext journal", "let the guest start and shut down properly, then run again");
  bool there = false;
  read_directory(fs, directory, [&](const DirectoryEntry& entry) {
    there = entry.name == name;
    if (there && entry.ino != ino)
      damaged(fmt::format("the name \"{}\" is taken", name), "ext journal");
    return !there;
  });
  if (there) return false;
  if (directory.has_flag(flag_index)) give_up_index(fs, directory);
  const std::size_t needed = entry_bytes(name.size());
  const bool placed =
      any_block(fs, directory, [&](std::uint64_t physical, std::uint64_t, Buffer& raw) {
        for (Place& place : entries_of(fs, raw)) {
          const std::size_t used =
              place.entry.inode.value() == 0 ? 0 : entry_bytes(place.entry.name_len);
          if (place.length < used + needed) continue;
          if (used != 0) {
            place.entry.rec_len = coded_length(used);
            put_at(raw, place.at, place.entry);
          }
          put_entry(fs, raw, place.at + used, place.length - used, name, ino, mode);
          put_tail(fs, directory, raw);
          fs.store().write(g.offset(physical), raw);
          return true;
        }
        return false;
      });
  if (placed) return true;
  std::vector<MappedRun> runs = read_runs(fs, directory);
  const auto block = allocation.allocate(1, runs.empty() ? 0 : runs.back().physical, {});
  if (!block) refuse("no free block is left to replay the journal", "ext filesystem");
  Buffer raw(g.block_size);
  put_entry(fs, raw, 0, raw.size() - tail_bytes(fs), name, ino, mode);
  put_tail(fs, directory, raw);
  fs.store().write(g.offset(*block), raw);
  const std::uint64_t logical = directory.size() / g.block_size;
  runs.push_back({logical, *block, 1, false});
  write_runs(fs, allocation, directory, runs);
  directory.fields.size_lo = static_cast<std::uint32_t>((logical + 1) * g.block_size);
  return true;
}

bool remove_name(Filesystem& fs, InodeRecord& directory, const std::string& name,
                 std::uint32_t ino) {
  if (directory.has_flag(flag_inline_data))
    unsupported(fmt::format("directory inode {} lies inside its inode", directory.ino),
                "ext journal", "let the guest start and shut down properly, then run again");
  const bool indexed = directory.has_flag(flag_index);
  return any_block(fs, directory, [&](std::uint64_t physical, std::uint64_t logical, Buffer& raw) {
    if (indexed && logical == 0) return false;
    if (parse_as<DirEntry>(raw, 0).inode.value() == 0 && indexed &&
        entry_length(parse_as<DirEntry>(raw, 0).rec_len.value(), fs.geometry().block_size) ==
            fs.geometry().block_size)
      return false;
    const std::vector<Place> places = entries_of(fs, raw);
    for (std::size_t i = 0; i < places.size(); ++i) {
      if (places[i].name != name || places[i].entry.inode.value() != ino) continue;
      if (i == 0) {
        DirEntry unused = places[i].entry;
        unused.inode = 0;
        put_at(raw, places[i].at, unused);
      } else {
        DirEntry before = places[i - 1].entry;
        before.rec_len = coded_length(places[i - 1].length + places[i].length);
        put_at(raw, places[i - 1].at, before);
      }
      put_tail(fs, directory, raw);
      fs.store().write(fs.geometry().offset(physical), raw);
      return true;
    }
    return false;
  });
}

}  // namespace jh::ext

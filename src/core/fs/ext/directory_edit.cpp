#include "core/fs/ext/directory_edit.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/checksum.h"
#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

// The index root stands behind "." and "..", and behind its own facts.
constexpr std::size_t index_root_at = 24 + sizeof(IndexRootInfo);

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
  tail.checksum = crc32c_raw(fs.seed_of(directory), ConstByteSpan(raw).first(at));
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
  visitor.data = [&](const MappedExtent& run) {
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
  tail.checksum = Checksums::index_block(fs.seed_of(directory), raw, used, tail_at);
  put_at(raw, tail_at, tail);
}

void sum_orphan_file(Filesystem& fs, const InodeRecord& inode) {
  if (!fs.geometry().metadata_csum()) return;
  const std::uint32_t seed = fs.seed_of(inode);
  BlockVisitor visitor;
  visitor.data = [&](const MappedExtent& run) {
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
  std::vector<MappedExtent> runs = read_runs(fs, directory);
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

// The index of a folder against its names.
#include <algorithm>

#include "core/fs/xfs/audit_files.h"
#include "core/fs/xfs/content_format.h"
#include "core/fs/xfs/index.h"

namespace jh::xfs {
namespace {

using Pointers = std::vector<std::pair<std::uint64_t, std::uint32_t>>;  // address, hash

// Entries of a leaf of a folder; gives back the largest hash.
std::uint32_t add_pointers(ConstByteSpan entries, std::size_t count, std::size_t stale,
                           const ForkBlocks& fork, Pointers& out) {
  if (count > entries.size() / sizeof(LeafEntry)) fork.fail("a leaf of its index is too long");
  std::uint32_t largest = 0;
  std::size_t removed = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const auto entry = parse_as<LeafEntry>(entries, i * sizeof(LeafEntry));
    if (entry.hash.value() < largest) fork.fail("a leaf of its index is not in order");
    largest = entry.hash.value();
    if (entry.address.value() == 0)
      ++removed;
    else
      out.emplace_back(std::uint64_t{entry.address.value()} * 8, largest);
  }
  if (removed != stale) fork.fail("a leaf of its index counts its removed names wrongly");
  return largest;
}

// The longest free pieces that a directory block names are the ones that it has. Gives back the
// longest.
std::uint32_t check_best(ConstByteSpan block, const ForkBlocks& fork) {
  std::size_t end = block.size();
  if (parse_as<Be32>(block, 0).value() == one_block_magic)
    end -= 8 + 8 * std::size_t{parse_as<Be32>(block, block.size() - 8).value()};
  const std::size_t kind = 1;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> pieces;  // length, offset
  for (std::size_t at = sizeof(DirectoryHeader); at < end;) {
    if (parse_as<Be16>(block, at).value() == free_tag) {
      const std::uint32_t length = parse_as<Be16>(block, at + 2).value();
      if (length == 0) break;
      pieces.emplace_back(length, static_cast<std::uint32_t>(at));
      at += length;
    } else {
      at += (8 + 1 + std::size_t{block[at + 8]} + kind + 2 + 7) / 8 * 8;
    }
  }
  std::sort(pieces.rbegin(), pieces.rend());
  const std::size_t best_at = offsetof(DirectoryHeader, best_free);
  for (std::size_t i = 0; i < 3; ++i) {
    const auto best = parse_as<BestFree>(block, best_at + i * sizeof(BestFree));
    const std::uint32_t length = i < pieces.size() ? pieces[i].first : 0;
    const std::pair<std::uint32_t, std::uint32_t> piece{best.length.value(), best.offset.value()};
    if (best.length.value() != length ||
        (length != 0 && std::find(pieces.begin(), pieces.end(), piece) == pieces.end()))
      fork.fail("a block of its names has other free room than it says");
  }
  return pieces.empty() ? 0 : pieces.front().first;
}

// "Free index blocks": the longest free piece of each directory block.
void check_room(const Geometry& geometry, const InodeFile& folder, const ForkBlocks& fork,
                const std::vector<std::uint32_t>& longest) {
  const std::uint64_t per_unit = fork.unit() / geometry.block_size();
  const std::uint64_t base = directory_room_at / geometry.block_size();
  const std::size_t most = (fork.unit() - sizeof(RoomHeader)) / 2;
  std::vector<bool> told(longest.size());
  for (const FileExtent& extent : fork.extents())
    for (std::uint64_t at = std::max(extent.offset, base); at < extent.offset + extent.count;
         ++at) {
      if ((at - base) % per_unit != 0) continue;
      const Buffer bytes = folder.read(fork.extents(), at * geometry.block_size(), fork.unit());
      const auto header = parse_as<RoomHeader>(bytes, 0);
      const std::uint64_t first = (at - base) / per_unit * most;
      if (header.magic.value() != block_magic::free_index ||
          header.owner.value() != folder.number() || header.uuid != geometry.metadata_uuid() ||
          header.address.value() * basic_block != fork.where(at) ||
          !checksum_matches(bytes, offsetof(RoomHeader, checksum)) ||
          header.first.value() != first || header.count.value() > most)
        fork.fail("a block of its free room is damaged");
      fork.written(header.log_sequence.value());
      std::uint32_t used = 0;
      for (std::size_t i = 0; i < header.count.value(); ++i) {
        const std::uint16_t best = parse_as<Be16>(bytes, sizeof(RoomHeader) + i * 2).value();
        if (best != no_such_block) ++used;
        const std::uint32_t real = first + i < longest.size() ? longest[first + i] : no_such_block;
        if (best != real) fork.fail("its list of free room is wrong");
        if (first + i < told.size()) told[first + i] = true;
      }
      if (used != header.used.value()) fork.fail("its list of free room counts wrongly");
    }
  for (std::size_t i = 0; i < told.size(); ++i)
    if (!told[i] && longest[i] != no_such_block)
      fork.fail("its list of free room leaves a block out");
}

// "." and "..": the folder itself, and a folder.
void check_dots(const Geometry& geometry, const InodeFile& folder, const InodeFile::Entry& entry,
                const ForkBlocks& fork) {
  constexpr std::uint8_t folder_type = 2;
  const bool itself = entry.name == ".";
  if (!itself && entry.name != "..") return;
  if (itself && entry.inode != folder.number()) fork.fail("it says of itself that it is another");
  if (entry.type != folder_type && geometry.is(incompatible::file_types))
    fork.fail("it says of a folder that it is something else");
}

// What a folder's blocks hold.
struct Names {
  Pointers places;                     // of each name
  std::vector<std::uint32_t> longest;  // free piece of each block
  bool one_block = false;              // with its index in it
  Pointers pointers;                   // that such an index has
};

Names read_names(const Geometry& geometry, const InodeFile& folder, const ForkBlocks& fork,
                 const std::function<void(const InodeFile::Entry&)>& visit) {
  const std::uint64_t unit = fork.unit();
  const std::uint64_t blocks = std::min(folder.size(), directory_leaves_at) / unit;
  if (blocks > fork.blocks() + 1 && blocks > (1U << 20)) fork.fail("it is longer than can be");
  Names names;
  names.longest.resize(blocks, no_such_block);
  folder.for_each_folder_block([&](ConstByteSpan bytes, std::uint64_t address) {
    const std::uint64_t number = address / unit;
    folder.names_in(bytes, address, [&](const InodeFile::Entry& entry) {
      check_dots(geometry, folder, entry, fork);
      visit(entry);
      names.places.emplace_back(entry.address, hash_of(text_bytes(entry.name)));
    });
    const auto header = parse_as<DirectoryHeader>(bytes, 0);
    if (header.address.value() * basic_block != fork.where(address / geometry.block_size()))
      fork.fail("a block of its names lies elsewhere than it says");
    fork.written(header.log_sequence.value());
    names.longest[number] = check_best(bytes, fork);
    if (header.magic.value() != one_block_magic) return;
    if (blocks != 1) fork.fail("a folder of one block has more");
    names.one_block = true;
    const std::size_t count = parse_as<Be32>(bytes, unit - 8).value();
    const std::size_t stale = parse_as<Be32>(bytes, unit - 4).value();
    if (count > (unit - sizeof(DirectoryHeader) - 8) / 8) fork.fail("its index is too long");
    add_pointers(bytes.subspan(unit - 8 - count * 8, count * 8), count, stale, fork,
                 names.pointers);
  });
  return names;
}

// The index of a folder of several blocks: leaves, and where there are many the lists of free room.
Pointers read_index(const Geometry& geometry, const InodeFile& folder, const ForkBlocks& fork,
                    const std::vector<std::uint32_t>& longest) {
  const std::size_t begin = sizeof(IndexHeader) + sizeof(LeafCounts);
  Pointers pointers;
  bool of_many = false;
  IndexWalk walk(fork, [&](std::uint64_t, ConstByteSpan bytes, std::uint16_t magic) {
    if (magic != block_magic::index_leaf && magic != block_magic::index_leaf_of_many)
      fork.fail("a leaf of its index is none");
    const auto counts = parse_as<LeafCounts>(bytes, sizeof(IndexHeader));
    std::size_t end = bytes.size();
    of_many = magic == block_magic::index_leaf_of_many;
    if (!of_many) {
      // At its end: the longest free piece of each block, and how many.
      const std::size_t bests = parse_as<Be32>(bytes, end - 4).value();
      if (bests > longest.size()) fork.fail("its list of free room is too long");
      for (std::size_t i = 0; i < longest.size(); ++i)
        if ((i < bests ? parse_as<Be16>(bytes, end - 4 - 2 * (bests - i)).value()
                       : no_such_block) != longest[i])
          fork.fail("its list of free room is wrong");
      end -= 4 + 2 * bests;
    }
    if (end < begin) fork.fail("a leaf of its index is too long");
    return add_pointers(bytes.subspan(begin, end - begin), counts.count.value(),
                        counts.stale.value(), fork, pointers);
  });
  walk.visit(directory_leaves_at / geometry.block_size());
  walk.end();
  if (of_many) check_room(geometry, folder, fork, longest);
  return pointers;
}

}  // namespace

void audit_folder(const Geometry& geometry, const InodeFile& folder, const Observer& observer,
                  const std::function<void(const InodeFile::Entry&)>& visit) {
  if (folder.core().format == fork::local) {
    folder.for_each_name(visit);
    return;
  }
  const ForkBlocks fork(geometry, folder, false, geometry.directory_block(), observer);
  Names names = read_names(geometry, folder, fork, visit);
  std::uint64_t names_end = 0;  // in blocks
  for (const FileExtent& extent : fork.extents())
    if (extent.offset < directory_leaves_at / geometry.block_size())
      names_end = extent.offset + extent.count;
  if (folder.size() % fork.unit() != 0 || folder.size() != names_end * geometry.block_size())
    observer.say("it is longer or shorter than its names");
  Pointers pointers =
      names.one_block ? names.pointers : read_index(geometry, folder, fork, names.longest);
  // Where letters are folded the hash is another one: then the places are compared alone.
  if ((geometry.superblock().version.value() & folded_names) != 0) {
    for (auto& [address, hash] : pointers) hash = 0;
    for (auto& [address, hash] : names.places) hash = 0;
  }
  std::sort(names.places.begin(), names.places.end());
  std::sort(pointers.begin(), pointers.end());
  if (names.places != pointers) observer.say("its index does not lead to the names that it has");
}

}  // namespace jh::xfs

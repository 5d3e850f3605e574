#include "core/fs/xfs/replay_inode.h"

#include <algorithm>

#include "core/fs/xfs/geometry.h"
#include "core/fs/xfs/log_format.h"

namespace jh::xfs {
namespace {

// The logged core has the fields of the one on disk, at the same places, in the byte order of
// the guest's processor.
void put_core(const Buffer& core, std::uint64_t sequence, Buffer& bytes) {
  const auto there = parse_as<Inode>(bytes, 0);
  if (core.size() < sizeof(Inode) || parse_as<Le16>(core, 0).value() != inode_magic ||
      core[offsetof(Inode, version)] != 3)
    corrupt("an inode of the log is none");
  Buffer fresh(core.begin(), core.begin() + sizeof(Inode));
  const auto turn = [&](std::size_t at, std::size_t width) {
    const auto first = fresh.begin() + static_cast<std::ptrdiff_t>(at);
    std::reverse(first, first + static_cast<std::ptrdiff_t>(width));
  };
  for (const std::size_t at :
       {offsetof(Inode, magic), offsetof(Inode, mode), offsetof(Inode, project_low),
        offsetof(Inode, project_high), offsetof(Inode, event_state), offsetof(Inode, flags)})
    turn(at, 2);
  for (const std::size_t at :
       {offsetof(Inode, user), offsetof(Inode, owner_group), offsetof(Inode, links),
        offsetof(Inode, extent_hint), offsetof(Inode, extents), offsetof(Inode, event_mask),
        offsetof(Inode, generation), offsetof(Inode, copy_extent_hint)})
    turn(at, 4);
  for (const std::size_t at :
       {offsetof(Inode, size), offsetof(Inode, blocks), offsetof(Inode, change_count),
        offsetof(Inode, flags2), offsetof(Inode, number)})
    turn(at, 8);
  const std::uint64_t flags2 = parse_as<Be64>(fresh, offsetof(Inode, flags2)).value();
  for (const std::size_t at : {offsetof(Inode, accessed), offsetof(Inode, modified),
                               offsetof(Inode, changed), offsetof(Inode, created)}) {
    if ((flags2 & has_big_time) != 0) {
      turn(at, 8);
    } else {
      turn(at, 4);  // seconds, and parts of them
      turn(at + 4, 4);
    }
  }
  if ((flags2 & has_many_extents) != 0) {
    turn(offsetof(Inode, many_extents), 8);
  } else {
    std::fill_n(fresh.begin() + offsetof(Inode, many_extents), 8, std::uint8_t{0});
    turn(offsetof(Inode, attribute_extents), 2);
  }
  put_at(fresh, offsetof(Inode, old_links), Be16(0));
  // Deleted files hang together on disk only.
  put_at(fresh, offsetof(Inode, next_unlinked), there.next_unlinked);
  put_at(fresh, offsetof(Inode, log_sequence), Be64(sequence));
  std::copy(fresh.begin(), fresh.end(), bytes.begin());
}

// In memory, and in the log, the root of a tree of extents has the header of a block; on disk
// it has only level and count, and room for as many pointers as the fork takes.
Buffer root_on_disk(const Buffer& logged, std::size_t room) {
  if (logged.size() < sizeof(LongTreeHeader))
    corrupt("the root of an inode's extents is too short");
  const auto header = parse_as<LongTreeHeader>(logged, 0);
  const std::size_t count = header.records.value();
  constexpr std::size_t root_header = 4;
  constexpr std::size_t pair = 16;
  const std::size_t most = (room - root_header) / pair;
  const std::size_t in_memory = (logged.size() - sizeof(LongTreeHeader)) / pair;
  if (room < root_header || count > most || count > in_memory)
    corrupt("the root of an inode's extents has too many pointers");
  Buffer root(root_header + most * pair);
  put_at(root, 0, header.level);
  put_at(root, 2, header.records);
  const auto keys = logged.begin() + sizeof(LongTreeHeader);
  std::copy_n(keys, count * 8, root.begin() + root_header);
  std::copy_n(keys + static_cast<std::ptrdiff_t>(in_memory * 8), count * 8,
              root.begin() + static_cast<std::ptrdiff_t>(root_header + most * 8));
  return root;
}

void put_forks(const LoggedItem& item, const LoggedInode& logged, Buffer& bytes) {
  const auto core = parse_as<Inode>(bytes, 0);
  const std::size_t size = bytes.size();
  const std::size_t split =
      core.fork_offset == 0 ? size : sizeof(Inode) + std::size_t{core.fork_offset} * 8;
  if (split > size) corrupt("an inode of the log has its attributes behind its end");
  const std::uint32_t fields = logged.fields.value();
  std::size_t region = 2;
  const auto next = [&]() -> const Buffer& {
    if (region >= item.regions.size()) corrupt("an inode of the log lacks a part");
    return item.regions[region++];
  };
  const auto put_fork = [&](const Buffer& fork, bool is_root, std::size_t from, std::size_t to) {
    const Buffer on_disk = is_root ? root_on_disk(fork, to - from) : fork;
    if (on_disk.size() > to - from) corrupt("an inode of the log has more than has room in it");
    std::copy(on_disk.begin(), on_disk.end(), bytes.begin() + static_cast<std::ptrdiff_t>(from));
  };
  if ((fields & logged_inode::data) != 0)
    put_fork(next(), (fields & logged_inode::data_root) != 0, sizeof(Inode), split);
  if ((fields & logged_inode::device) != 0)
    put_at(bytes, sizeof(Inode), Be32(parse_as<Le32>(logged.device, 0).value()));
  if ((fields & logged_inode::attributes) != 0)
    put_fork(next(), (fields & logged_inode::attribute_root) != 0, split, size);
}

}  // namespace

void put_logged_inode(const LoggedItem& item, const LoggedInode& logged, std::uint64_t sequence,
                      Buffer& bytes) {
  put_core(item.regions[1], sequence, bytes);
  put_forks(item, logged, bytes);
}

}  // namespace jh::xfs

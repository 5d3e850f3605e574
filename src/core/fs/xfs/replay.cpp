#include "core/fs/xfs/replay.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "core/base/checksum.h"

namespace jh::xfs {
namespace {

// Where a buffer lies: in units of 512 bytes.
struct Extent {
  std::uint64_t address = 0;
  std::uint64_t length = 0;
  auto operator<=>(const Extent&) const = default;
};

constexpr const char* let_guest = "start the guest and shut it down properly, then run again";

bool is_intent(std::uint16_t type) {
  return type == log_item::free_intent || type == log_item::reverse_intent ||
         type == log_item::share_intent || type == log_item::map_intent ||
         type == log_item::attribute_intent || type == log_item::exchange_intent;
}
bool is_done(std::uint16_t type) {
  return type == log_item::free_done || type == log_item::reverse_done ||
         type == log_item::share_done || type == log_item::map_done ||
         type == log_item::attribute_done || type == log_item::exchange_done;
}

const char* name_of(std::uint16_t intent) {
  static const std::map<std::uint16_t, const char*> names{
      {log_item::free_intent, "freeing blocks"},
      {log_item::reverse_intent, "noting owners"},
      {log_item::share_intent, "counting shared blocks"},
      {log_item::map_intent, "mapping blocks"},
      {log_item::attribute_intent, "changing attributes"}};
  const auto found = names.find(intent);
  return found == names.end() ? "exchanging the content of files" : found->second;
}

template <typename T>
T as(const Buffer& region) {
  if (region.size() < sizeof(T)) corrupt("an item of the log is too short");
  return parse_as<T>(region, 0);
}

Extent extent_of(const LoggedBuffer& item) { return {item.address.value(), item.length.value()}; }

// Where checksum and log sequence are in a block of metadata; nothing: it has none.
struct Sealed {
  std::size_t checksum = 0;
  std::size_t sequence = 0;
};
std::optional<Sealed> sealed_as(ConstByteSpan block) {
  if (block.size() < basic_block || parse_as<Be16>(block, 0).value() == inode_magic)
    return std::nullopt;
  switch (parse_as<Be32>(block, 0).value()) {
    case superblock_magic:
      return Sealed{offsetof(Superblock, checksum), offsetof(Superblock, log_sequence)};
    case free_space_magic:
      return Sealed{offsetof(FreeSpaceHeader, checksum), offsetof(FreeSpaceHeader, log_sequence)};
    case inode_header_magic:
      return Sealed{offsetof(InodeHeader, checksum), offsetof(InodeHeader, log_sequence)};
    case free_list_magic:
      return Sealed{offsetof(FreeListHeader, checksum), offsetof(FreeListHeader, log_sequence)};
    case tree_magic::by_block:
    case tree_magic::by_size:
    case tree_magic::inodes:
    case tree_magic::free_inodes:
    case tree_magic::reverse_map:
    case tree_magic::shared:
      return Sealed{offsetof(TreeHeader, checksum), offsetof(TreeHeader, log_sequence)};
    case tree_magic::extents:
      return Sealed{offsetof(LongTreeHeader, checksum), offsetof(LongTreeHeader, log_sequence)};
    case one_block_magic:
    case data_block_magic:
    case block_magic::free_index:
      return Sealed{offsetof(DirectoryHeader, checksum), offsetof(DirectoryHeader, log_sequence)};
    case block_magic::link_text:
    case block_magic::remote_value:
      return Sealed{offsetof(TextHeader, checksum), offsetof(TextHeader, log_sequence)};
    default:
      break;
  }
  switch (parse_as<Be16>(block, 8).value()) {
    case block_magic::node:
    case block_magic::attribute_leaf:
    case block_magic::index_leaf:
    case block_magic::index_leaf_of_many:
      return Sealed{offsetof(IndexHeader, checksum), offsetof(IndexHeader, log_sequence)};
    default:
      return std::nullopt;
  }
}

class Replay {
 public:
  Replay(Store& place, const Geometry& geometry) : place_(place), geometry_(geometry) {}

  // The first time through: what was given up later, and what was never finished.
  void prepare(const LoggedTransaction& transaction) {
    for (const LoggedItem& item : transaction.items) {
      const LogItem head = item.head();
      const std::uint16_t type = head.type.value();
      if (type == log_item::buffer) {
        const auto buffer = as<LoggedBuffer>(item.regions.front());
        if ((buffer.flags.value() & logged_buffer::cancelled) != 0) ++cancelled_[extent_of(buffer)];
      } else if (is_intent(type)) {
        intents_[head.id.value()] = type;
      } else if (is_done(type)) {
        intents_.erase(head.id.value());
      } else if (type != log_item::inode && type != log_item::quota &&
                 type != log_item::quota_off && type != log_item::inodes_made) {
        unsupported(fmt::format("the log holds items of an unknown kind ({:#x})", type), "XFS, log",
                    let_guest);
      }
    }
  }
  void check_finished() const {
    if (intents_.empty()) return;
    refuse(fmt::format("the guest was stopped while it was {}, which only it can finish",
                       name_of(intents_.begin()->second)),
           "XFS, log", let_guest);
  }

  void carry_out(const LoggedTransaction& transaction) {
    if (transaction.items.empty()) return;
    ++report_.transactions;
    if (transaction.sequence != sequence_) fresh_.clear();
    sequence_ = transaction.sequence;
    // Buffers first: inodes lie in them. What gives buffers up comes last.
    for (const LoggedItem& item : transaction.items) {
      const std::uint16_t type = item.head().type.value();
      if (type == log_item::inodes_made) make_inodes(as<InodesMade>(item.regions.front()));
      if (type == log_item::buffer && !has_flag(item, logged_buffer::of_inodes) &&
          !has_flag(item, logged_buffer::cancelled))
        write_buffer(item);
    }
    for (const LoggedItem& item : transaction.items) {
      const std::uint16_t type = item.head().type.value();
      if (type == log_item::inode) write_inode(item);
      if (type == log_item::quota) write_quota(item);
    }
    for (const LoggedItem& item : transaction.items)
      if (item.head().type.value() == log_item::buffer &&
          has_flag(item, logged_buffer::of_inodes) && !has_flag(item, logged_buffer::cancelled))
        write_buffer(item);
    for (const LoggedItem& item : transaction.items)
      if (item.head().type.value() == log_item::buffer && has_flag(item, logged_buffer::cancelled))
        give_up(extent_of(as<LoggedBuffer>(item.regions.front())));
  }

  const ReplayReport& report() const { return report_; }

 private:
  static bool has_flag(const LoggedItem& item, std::uint16_t flag) {
    return (as<LoggedBuffer>(item.regions.front()).flags.value() & flag) != 0;
  }

  bool is_cancelled(const Extent& extent) const { return cancelled_.contains(extent); }
  void give_up(const Extent& extent) {
    const auto found = cancelled_.find(extent);
    if (found != cancelled_.end() && --found->second == 0) cancelled_.erase(found);
  }

  std::uint64_t place_of(const Extent& extent) const {
    const std::uint64_t most = place_.size() / basic_block;
    constexpr std::uint64_t longest = (128U << 10) / basic_block;
    if (extent.length == 0 || extent.length > longest || extent.length > most ||
        extent.address > most - extent.length)
      corrupt("an item of the log lies outside of the filesystem");
    return extent.address * basic_block;
  }

  // Already there: written after this was logged, and not by this replay of the same record.
  bool is_newer(std::uint64_t there, std::uint64_t address) const {
    return there != 0 && there != ~0ULL && there >= sequence_ && !fresh_.contains(address);
  }

  void put(const Extent& extent, ConstByteSpan block) {
    place_.write(extent.address * basic_block, block);
    fresh_.insert(extent.address);
    report_.bytes += block.size();
  }

  void write_buffer(const LoggedItem& item) {
    const auto buffer = as<LoggedBuffer>(item.regions.front());
    const Extent extent = extent_of(buffer);
    if (is_cancelled(extent)) return;
    Buffer block = read_buffer(place_, place_of(extent), extent.length * basic_block);
    const std::uint16_t flags = buffer.flags.value();
    const bool of_inodes = (flags & logged_buffer::of_inodes) != 0;
    if (!of_inodes)
      if (const auto sealed = sealed_as(block);
          sealed && carries_identity(block, *sealed) &&
          is_newer(parse_as<Be64>(block, sealed->sequence).value(), extent.address))
        return;
    const Buffer before = block;
    copy_chunks(item, buffer, block);
    if (of_inodes) {
      keep_links_only(before, block);
    } else if ((flags & logged_buffer::of_quota) != 0) {
      seal_quota(block);
    } else if (const auto sealed = sealed_as(block)) {
      put_at(block, sealed->sequence, Be64(sequence_));
      set_checksum(block, sealed->checksum);
    }
    put(extent, block);
    ++report_.buffers;
  }

  // A block that was something else before has a log sequence of nobody's.
  bool carries_identity(ConstByteSpan block, const Sealed& sealed) const {
    if (parse_as<Be32>(block, 0).value() == superblock_magic) return true;
    // In all of them the identity follows the sequence, but in two headers of a group.
    std::size_t at = sealed.sequence + 8;
    switch (parse_as<Be32>(block, 0).value()) {
      case free_space_magic:
        at = offsetof(FreeSpaceHeader, uuid);
        break;
      case inode_header_magic:
        at = offsetof(InodeHeader, uuid);
        break;
      case free_list_magic:
        at = offsetof(FreeListHeader, uuid);
        break;
      case block_magic::link_text:
      case block_magic::remote_value:
        at = offsetof(TextHeader, uuid);
        break;
      default:
        break;
    }
    return parse_as<Uuid>(block, at) == geometry_.metadata_uuid();
  }

  static void copy_chunks(const LoggedItem& item, const LoggedBuffer& buffer, Buffer& block) {
    constexpr std::size_t chunk = logged_buffer::chunk;
    const Buffer& head = item.regions.front();
    const std::size_t words = buffer.words.value();
    if (words > (head.size() - sizeof(LoggedBuffer)) / 4)
      corrupt("an item of the log is too short");
    const auto bit = [&](std::size_t number) {
      return number / 32 < words &&
             (parse_as<Le32>(head, sizeof(LoggedBuffer) + number / 32 * 4).value() >>
                  (number % 32) &
              1) != 0;
    };
    std::size_t number = 0;
    for (std::size_t region = 1; region < item.regions.size(); ++region) {
      while (number < words * 32 && !bit(number)) ++number;
      const Buffer& bytes = item.regions[region];
      const std::size_t chunks = ceil_div(bytes.size(), chunk);
      if (chunks == 0) corrupt("an item of the log has an empty region");
      for (std::size_t i = 0; i < chunks; ++i)
        if (!bit(number + i)) corrupt("an item of the log does not say where its bytes belong");
      const std::size_t at = number * chunk;
      if (at + bytes.size() > block.size()) corrupt("an item of the log is longer than its place");
      std::copy(bytes.begin(), bytes.end(), block.begin() + static_cast<std::ptrdiff_t>(at));
      number += chunks;
    }
  }

  // Of buffers with inodes only the chains of deleted files count: the inodes have items of their
  // own.
  void keep_links_only(ConstByteSpan before, Buffer& block) const {
    const std::size_t size = geometry_.superblock().inode_size.value();
    Buffer result(before.begin(), before.end());
    for (std::size_t at = 0; at + size <= block.size(); at += size) {
      const auto next = parse_as<Be32>(block, at + offsetof(Inode, next_unlinked));
      if (parse_as<Be16>(result, at).value() != inode_magic ||
          next.value() == parse_as<Be32>(result, at + offsetof(Inode, next_unlinked)).value())
        continue;
      put_at(result, at + offsetof(Inode, next_unlinked), next);
      set_checksum(ByteSpan(result).subspan(at, size), offsetof(Inode, checksum));
    }
    block = std::move(result);
  }

  void seal_quota(Buffer& block) const {
    for (std::size_t at = 0; at + sizeof(QuotaRecord) <= block.size(); at += sizeof(QuotaRecord)) {
      if (parse_as<Be16>(block, at).value() != quota_magic) continue;
      put_at(block, at + offsetof(QuotaRecord, log_sequence), Be64(sequence_));
      set_checksum(ByteSpan(block).subspan(at, sizeof(QuotaRecord)),
                   offsetof(QuotaRecord, checksum));
    }
  }

  void make_inodes(const InodesMade& made) {
    const std::uint32_t group = made.group.value();
    const std::uint64_t block = made.block.value();
    const std::uint64_t blocks = made.blocks.value();
    const std::size_t size = geometry_.superblock().inode_size.value();
    const bool sound = group < geometry_.groups() && blocks != 0 &&
                       made.inode_size.value() == size &&
                       block + blocks <= geometry_.blocks_of(group) &&
                       blocks * geometry_.block_size() == made.count.value() * size &&
                       made.count.value() <= inodes_per_chunk * 64;
    if (!sound) corrupt("an item of the log makes inodes where none can be");
    const std::uint64_t at = geometry_.block_at(group, block);
    if (was_given_up(at / basic_block, blocks * geometry_.block_size() / basic_block)) return;
    Buffer bytes(blocks * geometry_.block_size());
    const Superblock& super = geometry_.superblock();
    const std::uint64_t first = (std::uint64_t{group} << super.group_blocks_log | block)
                                << super.inodes_per_block_log;
    for (std::uint64_t i = 0; i < made.count.value(); ++i) {
      Inode inode{};
      inode.magic = inode_magic;
      inode.version = 3;
      inode.generation = made.generation.value();
      inode.next_unlinked = no_inode;
      inode.number = first + i;
      inode.uuid = geometry_.metadata_uuid();
      put_at(bytes, i * size, inode);
      set_checksum(ByteSpan(bytes).subspan(i * size, size), offsetof(Inode, checksum));
    }
    put({at / basic_block, bytes.size() / basic_block}, bytes);
    ++report_.buffers;
  }

  // All clusters in this range were freed again.
  bool was_given_up(std::uint64_t address, std::uint64_t length) const {
    std::uint64_t covered = 0;
    for (auto found = cancelled_.lower_bound({address, 0});
         found != cancelled_.end() && found->first.address < address + length; ++found)
      covered += found->first.length;
    return covered >= length;
  }

  void write_inode(const LoggedItem& item) {
    const auto logged = as<LoggedInode>(item.regions.front());
    const Extent extent{logged.address.value(), logged.length.value()};
    if (is_cancelled(extent)) return;
    if ((logged.fields.value() & logged_inode::new_owner) != 0)
      unsupported("the log exchanges the content of files", "XFS, log", let_guest);
    const std::size_t size = geometry_.superblock().inode_size.value();
    const std::uint64_t at = logged.offset.value();
    const std::uint64_t start = place_of(extent);
    if (at % size != 0 || at + size > extent.length * basic_block || item.regions.size() < 2)
      corrupt("an inode of the log lies outside of its place");
    Buffer bytes = read_buffer(place_, start + at, size);
    const auto there = parse_as<Inode>(bytes, 0);
    if (there.magic.value() != inode_magic || there.number.value() != logged.number.value())
      corrupt(fmt::format("inode {} is not where the log writes it", logged.number.value()));
    const std::uint64_t key = (start + at) / basic_block | 1ULL << 63 | at % basic_block << 48;
    // The same record may change it twice; one that lies there from later on stays.
    const std::uint64_t sequence = there.log_sequence.value();
    if (sequence != 0 && sequence != ~0ULL && sequence > sequence_ && !fresh_.contains(key)) return;
    put_core(item.regions[1], there, bytes);
    put_forks(item, logged, bytes);
    set_checksum(bytes, offsetof(Inode, checksum));
    place_.write(start + at, bytes);
    fresh_.insert(key);
    report_.bytes += size;
    ++report_.inodes;
  }

  // The logged core has the fields of the one on disk, at the same places, in the byte order of
  // the guest's processor.
  void put_core(const Buffer& core, const Inode& there, Buffer& bytes) const {
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
    put_at(fresh, offsetof(Inode, log_sequence), Be64(sequence_));
    std::copy(fresh.begin(), fresh.end(), bytes.begin());
  }

  void put_forks(const LoggedItem& item, const LoggedInode& logged, Buffer& bytes) const {
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

  // In memory, and in the log, the root of a tree of extents has the header of a block; on disk
  // it has only level and count, and room for as many pointers as the fork takes.
  static Buffer root_on_disk(const Buffer& logged, std::size_t room) {
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

  void write_quota(const LoggedItem& item) {
    const auto logged = as<LoggedQuota>(item.regions.front());
    const Extent extent{logged.address.value(), logged.length.value()};
    if (is_cancelled(extent)) return;
    const std::uint64_t start = place_of(extent);
    const std::uint64_t at = logged.offset.value();
    if (at + sizeof(QuotaRecord) > extent.length * basic_block || item.regions.size() < 2 ||
        item.regions[1].size() < sizeof(QuotaRecord::counts))
      corrupt("a quota record of the log lies outside of its place");
    auto record = read_as<QuotaRecord>(place_, start + at);
    const std::uint64_t key = extent.address | 1ULL << 62 | at << 40;
    if (is_newer(record.log_sequence.value(), key)) return;
    std::copy_n(item.regions[1].begin(), record.counts.size(), record.counts.begin());
    record.log_sequence = sequence_;
    record.uuid = geometry_.metadata_uuid();
    Buffer bytes(sizeof(record));
    put_at(bytes, 0, record);
    set_checksum(bytes, offsetof(QuotaRecord, checksum));
    place_.write(start + at, bytes);
    fresh_.insert(key);
    report_.bytes += sizeof(record);
  }

  Store& place_;
  const Geometry& geometry_;
  std::map<Extent, std::uint64_t> cancelled_;
  std::map<std::uint64_t, std::uint16_t> intents_;  // by identity
  std::uint64_t sequence_ = 0;
  std::set<std::uint64_t> fresh_;  // what the replay wrote of the present sequence
  ReplayReport report_;
};

}  // namespace

bool holds_items(const Log& log) {
  bool any = false;
  for_each_transaction(
      log, [&](const LoggedTransaction& transaction) { any = any || !transaction.items.empty(); });
  return any;
}

ReplayReport replay(Store& place, const Geometry& geometry, const Log& log) {
  Replay work(place, geometry);
  for_each_transaction(log, [&](const LoggedTransaction& one) { work.prepare(one); });
  work.check_finished();
  for_each_transaction(log, [&](const LoggedTransaction& one) { work.carry_out(one); });
  return work.report();
}

}  // namespace jh::xfs

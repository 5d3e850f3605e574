#include "core/fs/xfs/replay.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "core/base/checksum.h"
#include "core/fs/xfs/block_seal.h"
#include "core/fs/xfs/content_format.h"
#include "core/fs/xfs/log_format.h"
#include "core/fs/xfs/replay_inode.h"

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
          sealed && carries_identity(block, *sealed, geometry_.metadata_uuid()) &&
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
    put_logged_inode(item, logged, sequence_, bytes);
    set_checksum(bytes, offsetof(Inode, checksum));
    place_.write(start + at, bytes);
    fresh_.insert(key);
    report_.bytes += size;
    ++report_.inodes;
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

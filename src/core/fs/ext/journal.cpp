#include "core/fs/ext/journal.h"

#include <fmt/format.h>

#include "core/base/checksum.h"

namespace jh::ext {

using journal::BlockType;

namespace {

constexpr const char* where = "ext journal";
constexpr std::uint32_t default_fast_blocks = 256;
constexpr std::uint32_t known_features =
    journal::incompat_revoke | journal::incompat_64bit | journal::incompat_async_commit |
    journal::incompat_csum_v2 | journal::incompat_csum_v3 | journal::incompat_fast_commit;

bool is_type(const journal::Header& header, BlockType type) {
  return header.type.value() == static_cast<std::uint32_t>(type);
}

// The block with four bytes taken as zero, as checksums are computed over it.
std::uint32_t sum_without(std::uint32_t seed, ConstByteSpan raw, std::size_t hole) {
  constexpr std::array<std::uint8_t, 4> zeros{};
  seed = crc32c_raw(seed, raw.first(hole));
  seed = crc32c_raw(seed, zeros);
  return crc32c_raw(seed, raw.subspan(hole + 4));
}

}  // namespace

Journal::Journal(Filesystem& fs) : fs_(fs) {
  const Superblock& super = fs.super();
  const std::uint32_t ino = super.journal_inum.value();
  if (ino == 0)
    unsupported("the filesystem keeps its journal on another device", where,
                "grow it inside the guest, or move its journal inside first");
  const InodeRecord inode = fs.read_inode(ino);
  if (inode.type() != mode_file || inode.fields.links_count.value() == 0)
    damaged("the journal's inode is no file in use", where, start_the_guest_first);
  BlockVisitor visitor;
  visitor.data = [&](const MappedExtent& run) {
    if (run.logical != block_count_ || run.unwritten)
      damaged("the journal has holes", where, start_the_guest_first);
    blocks_.push_back({run.physical, run.count});
    block_count_ += run.count;
    return true;
  };
  visit_blocks(fs, inode, visitor);
  if (block_count_ == 0) damaged("the journal has no blocks", where, start_the_guest_first);
  if (inode.size() > block_count_ * fs.geometry().block_size)
    damaged("the journal's inode is longer than its blocks", where, start_the_guest_first);
  super_ = parse_as<journal::Superblock>(read(0), 0);
  const bool v2 = is_type(super_.header, BlockType::superblock_v2);
  if (super_.header.magic.value() != journal::magic ||
      (!v2 && !is_type(super_.header, BlockType::superblock_v1)))
    damaged("the journal's superblock has no signature", where, start_the_guest_first);
  if (!v2) {
    super_.feature_compat = 0;
    super_.feature_incompat = 0;
  }
  if (const std::uint32_t unknown = super_.feature_incompat.value() & ~known_features; unknown != 0)
    unsupported(fmt::format("the journal has unknown features 0x{:x}", unknown), where,
                start_the_guest_first);
  if (v2 && super_.user_count.value() > 1)
    damaged(fmt::format("the journal says that {} filesystems use it", super_.user_count.value()),
            where, start_the_guest_first);
  if (journal::has_checksum(super_) &&
      journal::superblock_checksum(super_) != super_.checksum.value())
    damaged("the checksum of the journal's superblock is wrong", where, start_the_guest_first);
  first_ = super_.first.value();
  last_ = super_.length.value();
  if (super_.block_size.value() != fs.geometry().block_size || last_ > block_count_ || last_ < 3)
    damaged("the journal's size is not possible", where, start_the_guest_first);
  if (has_fast_commits()) {
    fast_blocks_ = super_.fast_commit_blocks.value();
    if (fast_blocks_ == 0) fast_blocks_ = default_fast_blocks;
    if (std::uint64_t{fast_blocks_} + 3 > last_)
      damaged("the journal's size is not possible", where, start_the_guest_first);
    last_ -= fast_blocks_;
  }
  if (first_ == 0 || first_ >= last_ || super_.start.value() >= last_ ||
      (super_.start.value() != 0 && super_.start.value() < first_))
    damaged("the journal's log lies outside of it", where, start_the_guest_first);
  if (super_.error.value() != 0)
    refuse(fmt::format("the journal notes an error of the guest ({})", super_.error.value()), where,
           "let the guest check this filesystem, then run again");
  seed_ = crc32c_raw(~0U, super_.uuid);
}

Buffer Journal::read(std::uint32_t block) {
  std::uint64_t at = block;
  for (const BlockRange& run : blocks_) {
    if (at < run.count) return fs_.read_block(run.start + at);
    at -= run.count;
  }
  damaged(fmt::format("the journal has no block {}", block), where, start_the_guest_first);
}

bool Journal::tail_holds(ConstByteSpan raw) const {
  if (!feature(journal::incompat_csum_v2 | journal::incompat_csum_v3)) return true;
  const std::size_t at = raw.size() - 4;
  return sum_without(seed_, raw, at) == parse_as<Be32>(raw, at).value();
}

bool Journal::commit_holds(ConstByteSpan raw, std::uint32_t old_sum) const {
  const auto commit = parse_as<journal::CommitBlock>(raw, 0);
  if (feature(journal::incompat_csum_v2 | journal::incompat_csum_v3))
    return sum_without(seed_, raw, offsetof(journal::CommitBlock, checksum)) ==
           commit.checksum[0].value();
  constexpr std::uint8_t type_crc32 = 1;
  if ((super_.feature_compat.value() & journal::compat_checksum) == 0 ||
      commit.checksum_type != type_crc32)
    return true;
  return commit.checksum[0].value() == old_sum;
}

// Descriptor: one tag for each data block that follows.
bool Journal::read_tags(ConstByteSpan raw, std::uint32_t& at, Transaction& transaction,
                        std::uint32_t& old_sum) {
  const bool v3 = feature(journal::incompat_csum_v3);
  const bool v2 = feature(journal::incompat_csum_v2);
  const bool wide = feature(journal::incompat_64bit);
  const std::size_t tag_size = v3 ? 16 : 8 + (v2 ? 2 : 0) + (wide ? 4 : 0);
  const std::size_t end = raw.size() - (v2 || v3 ? 4 : 0);
  Be32 sequence;
  sequence = transaction.sequence;
  for (std::size_t offset = sizeof(journal::Header); offset + tag_size <= end;) {
    std::uint64_t home = 0;
    std::uint32_t flags = 0;
    std::uint32_t checksum = 0;
    if (v3) {
      const auto tag = parse_as<journal::Tag3>(raw, offset);
      home = tag.block_lo.value();
      if (wide) home |= std::uint64_t{tag.block_hi.value()} << 32;
      flags = tag.flags.value();
      checksum = tag.checksum.value();
    } else {
      home = parse_as<Be32>(raw, offset).value();
      checksum = parse_as<Be16>(raw, offset + 4).value();
      flags = parse_as<Be16>(raw, offset + 6).value();
      if (wide) home |= std::uint64_t{parse_as<Be32>(raw, offset + 8).value()} << 32;
    }
    offset += tag_size + ((flags & journal::tag_same_uuid) != 0 ? 0 : 16);
    if (transaction.blocks.size() > block_count_) return false;
    const Buffer data = read(at);
    old_sum = crc32_msb_first(old_sum, data);
    if (v2 || v3) {
      const std::uint32_t real = crc32c_raw(crc32c_raw(seed_, bytes_of(sequence)), data);
      if (checksum != (v3 ? real : real & 0xFFFF)) return false;
    }
    if (home >= fs_.geometry().blocks) return false;
    transaction.blocks.emplace_back(home, at);
    transaction.escaped.push_back((flags & journal::tag_escaped) != 0);
    at = next(at);
    if ((flags & journal::tag_last) != 0) break;
  }
  return true;
}

bool Journal::read_revocations(ConstByteSpan raw, Transaction& transaction) {
  const auto header = parse_as<journal::RevokeHeader>(raw, 0);
  const std::size_t width = feature(journal::incompat_64bit) ? 8 : 4;
  if (header.used.value() > raw.size() || !tail_holds(raw)) return false;
  for (std::size_t at = sizeof(header); at + width <= header.used.value(); at += width)
    transaction.revoked.push_back(width == 8 ? parse_as<Be64>(raw, at).value()
                                             : parse_as<Be32>(raw, at).value());
  return true;
}

Journal::Outcome Journal::read_transaction(std::uint32_t& at, std::uint32_t sequence,
                                           Transaction& transaction) {
  transaction = {sequence, {}, {}, {}};
  std::uint32_t old_sum = ~0U;
  for (std::uint64_t steps = 0; steps < block_count_; ++steps) {
    const Buffer raw = read(at);
    const auto header = parse_as<journal::Header>(raw, 0);
    if (header.magic.value() != journal::magic || header.sequence.value() != sequence)
      return Outcome::end;
    at = next(at);
    if (is_type(header, BlockType::descriptor)) {
      old_sum = crc32_msb_first(old_sum, raw);
      if (!tail_holds(raw) || !read_tags(raw, at, transaction, old_sum)) return Outcome::broken;
    } else if (is_type(header, BlockType::revoke)) {
      if (!read_revocations(raw, transaction)) return Outcome::broken;
    } else if (is_type(header, BlockType::commit)) {
      return commit_holds(raw, old_sum) ? Outcome::complete : Outcome::broken;
    } else {
      return Outcome::end;
    }
  }
  return Outcome::end;  // once around without a commit
}

// A transaction that was cut off by a power cut is the last one. One with a wrong checksum in front
// of others is damage: what they hold must not be thrown away.
void Journal::check_is_end(std::uint32_t sequence) {
  for (std::uint32_t block = first_; block < last_; ++block) {
    const Buffer raw = read(block);
    const auto header = parse_as<journal::Header>(raw, 0);
    if (header.magic.value() != journal::magic || !is_type(header, BlockType::commit)) continue;
    const auto behind = static_cast<std::int32_t>(header.sequence.value() - sequence);
    // With commits that do not wait for their data, the last one may be there too early.
    const bool may_be_last = behind == 0 && feature(journal::incompat_async_commit);
    const bool summed = feature(journal::incompat_csum_v2 | journal::incompat_csum_v3);
    if (behind < 0 || may_be_last || (behind == 0 && !summed)) continue;
    if (summed && !commit_holds(raw, 0)) continue;
    damaged(fmt::format("transaction {} of the journal has a wrong checksum, and was completed",
                        sequence),
            where, start_the_guest_first);
  }
}

Journal::Contents Journal::scan() {
  Contents contents;
  contents.next_sequence = sequence();
  if (is_empty()) return contents;
  std::vector<Transaction> transactions;
  std::map<std::uint64_t, std::uint32_t> revoked;  // home → last transaction that made it void
  Transaction transaction;
  std::uint32_t at = super_.start.value();
  std::uint64_t kept = 0;
  Outcome outcome = Outcome::end;
  while ((outcome = read_transaction(at, contents.next_sequence, transaction)) ==
         Outcome::complete) {
    for (const std::uint64_t block : transaction.revoked) revoked[block] = transaction.sequence;
    kept += transaction.blocks.size() + 1;
    ++contents.next_sequence;
    transactions.push_back(std::move(transaction));
    if (kept > block_count_) break;  // the log cannot hold more than it has blocks
  }
  if (outcome == Outcome::broken) check_is_end(contents.next_sequence);
  contents.transactions = static_cast<std::uint32_t>(transactions.size());
  for (const Transaction& done : transactions) {
    for (std::size_t i = 0; i < done.blocks.size(); ++i) {
      const auto& [home, block] = done.blocks[i];
      const auto void_from = revoked.find(home);
      // A copy is void when its own or a later transaction revokes it; numbers may wrap around.
      if (void_from != revoked.end() &&
          static_cast<std::int32_t>(void_from->second - done.sequence) >= 0) {
        ++contents.revoked;
        continue;
      }
      contents.home[home] = block;
      contents.escaped[home] = done.escaped[i];
    }
  }
  return contents;
}

void Journal::set_empty(std::uint32_t next_sequence) {
  auto super = parse_as<journal::Superblock>(read(0), 0);
  super.start = 0;
  super.sequence = next_sequence;
  if (journal::has_checksum(super)) super.checksum = journal::superblock_checksum(super);
  fs_.store().write(fs_.geometry().offset(blocks_.front().start), bytes_of(super));
  super_.start = 0;
  super_.sequence = next_sequence;
}

void bring_home(Filesystem& fs, Journal& journal, const Journal::Contents& contents) {
  for (const auto& [home, block] : contents.home) {
    Buffer data = journal.read(block);
    if (contents.escaped.at(home)) {
      Be32 magic;
      magic = journal::magic;
      put_at(data, 0, magic);
    }
    fs.store().write(fs.geometry().offset(home), data);
  }
}

}  // namespace jh::ext

// The journal of ext3 and ext4: what is in it, and bringing it home.
#pragma once

#include <map>
#include <vector>

#include "core/fs/ext/block_map.h"
#include "core/fs/ext/journal_format.h"

namespace jh::ext {

/// The journal's blocks, where they lie and what its superblock says.
class Journal {
 public:
  /// Throws unsupported for an external journal or unknown features, damaged when the journal
  /// contradicts itself. The filesystem must have a journal.
  explicit Journal(Filesystem& fs);

  bool is_empty() const { return super_.start.value() == 0; }
  std::uint32_t sequence() const { return super_.sequence.value(); }
  bool has_fast_commits() const {
    return (super_.feature_incompat.value() & journal::incompat_fast_commit) != 0;
  }
  /// First block of the fast-commit area, and its blocks. The first of those set aside stays
  /// unused.
  std::uint32_t fast_start() const { return last_ + 1; }
  std::uint32_t fast_blocks() const { return fast_blocks_ - 1; }
  Buffer read(std::uint32_t block);

  struct Contents {
    std::uint32_t transactions = 0;
    std::uint32_t next_sequence = 0;              // after the last complete transaction
    std::map<std::uint64_t, std::uint32_t> home;  // filesystem block → its newest journal block
    std::map<std::uint64_t, bool> escaped;        // of those, which begin with the magic
    std::uint64_t revoked = 0;                    // copies that a revocation made void
  };
  /// All complete transactions. A transaction whose commit or checksums are wrong ends the log, as
  /// it does for the guest. Throws damaged when a complete transaction cannot be read.
  Contents scan();
  /// Marks the journal as empty.
  void set_empty(std::uint32_t next_sequence);

 private:
  struct Transaction {
    std::uint32_t sequence = 0;
    std::vector<std::pair<std::uint64_t, std::uint32_t>> blocks;  // home, journal block
    std::vector<bool> escaped;
    std::vector<std::uint64_t> revoked;
  };
  enum class Outcome { complete, end, broken };
  void check_is_end(std::uint32_t sequence);
  Outcome read_transaction(std::uint32_t& at, std::uint32_t sequence, Transaction& transaction);
  bool read_tags(ConstByteSpan raw, std::uint32_t& at, Transaction& transaction,
                 std::uint32_t& old_sum);
  bool read_revocations(ConstByteSpan raw, Transaction& transaction);
  bool commit_holds(ConstByteSpan raw, std::uint32_t old_sum) const;
  bool tail_holds(ConstByteSpan raw) const;
  std::uint32_t next(std::uint32_t block) const { return block + 1 >= last_ ? first_ : block + 1; }
  bool feature(std::uint32_t bit) const { return (super_.feature_incompat.value() & bit) != 0; }

  Filesystem& fs_;
  std::vector<BlockRange> blocks_;  // of the journal's inode, in order
  std::uint64_t block_count_ = 0;
  journal::Superblock super_{};
  std::uint32_t first_ = 0;
  std::uint32_t last_ = 0;  // one past the log
  std::uint32_t fast_blocks_ = 0;
  std::uint32_t seed_ = 0;
};

/// Writes every newest copy home. Does not touch the journal itself.
void bring_home(Filesystem& fs, Journal& journal, const Journal::Contents& contents);

}  // namespace jh::ext

// The names of a directory by themselves: allowed, there once, and where its index looks for them.
// That needs nothing else of the filesystem, so that a second thread can see to it.
#pragma once

#include <future>
#include <map>
#include <memory>
#include <optional>
#include <unordered_set>

#include "core/fs/ext/audit_index.h"

namespace jh::ext {

class NameAudit {
 public:
  /// `encrypted`: names are bytes of any kind. `index`: nothing where the directory has none.
  NameAudit(std::string where, bool encrypted, std::uint32_t block_size,
            std::optional<IndexAudit> index);

  const std::optional<IndexAudit>& index() const { return index_; }
  /// The entries of a block of the directory, without its checksum, as far as they are whole: what
  /// is broken is for those who follow them.
  void look(ConstByteSpan entries, std::uint64_t logical);
  /// The same, but later.
  void keep(Buffer entries, std::uint64_t logical);
  std::size_t kept_bytes() const;
  /// Looks at what was kept. All that was found is there then.
  const Findings& finish();

 private:
  void check(const std::string& name, std::uint64_t logical);

  struct Block {
    Buffer entries;
    std::uint64_t logical = 0;
  };
  std::string where_;
  bool encrypted_;
  std::uint32_t block_size_;
  std::optional<IndexAudit> index_;
  std::unordered_set<std::string> names_;
  std::vector<Block> kept_;
  Findings findings_;
};

/// Finishes many of them in a thread of its own; in the caller's where that one is at work still.
class NameAuditWorker {
 public:
  explicit NameAuditWorker(Findings& findings) : findings_(findings) {}

  void add(std::unique_ptr<NameAudit> names);
  /// Waits for all. What was found is added in the order in which the directories were added.
  void finish();

 private:
  using Work = std::vector<std::unique_ptr<NameAudit>>;
  static Findings done(const Work& work);
  void dispatch();

  Findings& findings_;
  Work waiting_;
  std::size_t waiting_bytes_ = 0;
  std::future<Findings> at_work_;
  std::uint64_t at_work_on_ = 0;
  std::uint64_t dispatched_ = 0;
  std::map<std::uint64_t, Findings> found_;  // by when they were dispatched
};

}  // namespace jh::ext

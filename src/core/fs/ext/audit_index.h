// The hash index of a directory: its nodes, and whether every name lies in the block in which a
// search for it would look.
#pragma once

#include <unordered_map>

#include "core/fs/ext/audit_state.h"
#include "core/fs/ext/name_hash.h"

namespace jh::ext {

class IndexAudit {
 public:
  /// Walks the index from its root, and reports what is wrong with it. `seed`: of the directory's
  /// checksums.
  IndexAudit(AuditState& state, const InodeRecord& directory, std::string where,
             std::uint32_t seed);

  /// Whether this block of the directory belongs to the index. The root (block 0) holds "." and
  /// ".." too; other nodes hold no names.
  bool is_node(std::uint64_t logical) const;
  /// Whether a search for this name would look into this block, as far as that can be told. Needs
  /// nothing but what the walk has found.
  bool is_sought_in(std::uint64_t logical, const std::string& name) const;

 private:
  // The hashes that a search sends to a block: from `low`, and below `high`; a chain of equal
  // hashes may go on into the next block, then `high` belongs to both.
  struct Range {
    std::uint32_t low = 0;
    std::uint64_t high = 0;
    bool high_too = false;
    bool node = false;
  };
  enum class Names { checked, folded, unchecked };

  bool read_root();
  void walk(std::uint64_t logical, const Range& range, std::uint32_t levels_below);
  bool entries_in_order(const Buffer& raw, std::size_t at, std::uint32_t count,
                        std::uint64_t logical);
  void check_sum(const Buffer& raw, std::size_t at, std::size_t limit, std::uint32_t count,
                 std::uint64_t logical);
  void find_unreferenced();

  AuditState& state_;
  Filesystem& fs_;
  const Geometry& g_;
  const InodeRecord& directory_;
  std::string where_;
  std::uint32_t seed_;
  std::uint64_t blocks_ = 0;  // of the directory, by its size
  NameHash hash_;
  Names names_ = Names::checked;
  std::uint32_t levels_ = 0;
  bool whole_ = true;                                // nothing wrong with the nodes
  std::unordered_map<std::uint64_t, Range> ranges_;  // by logical block; at most one each
};

}  // namespace jh::ext

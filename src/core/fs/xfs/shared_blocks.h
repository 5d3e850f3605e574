// Blocks that several files share: how many there are, and how many the groups count.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "core/base/ranges.h"

namespace jh::xfs {

/// Blocks count through all groups. Memory: 16 bytes for each part of a file that is shared.
class SharedBlocks {
 public:
  /// What a group's tree says; all of it comes before the owners.
  void note_count(std::uint64_t start, std::uint64_t end, std::uint64_t references);
  /// What a file has: as much of it as is said to be shared is kept in mind.
  void note_owner(std::uint64_t start, std::uint64_t count);
  /// All that is said to be shared.
  const Ranges& all() const { return all_; }
  /// The first difference between what is said and what there is, in words; empty: none.
  std::string difference() const;

 private:
  struct Count {
    std::uint64_t start = 0;
    std::uint64_t end = 0;
    std::uint64_t references = 0;
  };
  Ranges all_;
  std::vector<Count> counts_;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> owners_;
};

}  // namespace jh::xfs

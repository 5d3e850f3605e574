// Partitions that may move towards the front, with what is in them: how they come to lie side by
// side.
#pragma once

#include <optional>
#include <vector>

#include "core/plan/floors.h"

namespace jh {

class Lineup {
 public:
  struct Lying {
    const Place* place = nullptr;
    Sectors first;
    Sectors count;
    bool stays = false;  // nobody knows what it is, or something names its sectors
    Sectors end() const { return first + count; }
    bool moves() const { return first < place->partition->first; }
  };

  /// The partitions as they lie; logical ones for the extended one around them. The guest must
  /// outlive it, and the disk have a table.
  Lineup(const Guest& guest, std::size_t disk);

  const std::vector<Lying>& all() const { return lying_; }
  Lying* find(const Place& place);
  /// Makes one shorter, as if its place had this size. An extended partition without logical ones
  /// stays as it is.
  void cut(Lying& each, Bytes size) const;
  /// Each goes as far to the front as what stands before it lets it.
  void pack();
  /// Where the last one ends.
  Sectors end() const { return lying_.empty() ? Sectors(0) : lying_.back().end(); }

  /// The extended partition and those in it, when any of them becomes another or the extended one
  /// would meet what comes behind it, or `usable`.
  struct Chain {
    NewPlace extended;
    std::vector<NewPlace> logical;
  };
  std::optional<Chain> chain(Sectors usable) const;

 private:
  const Disk* disk_;
  std::vector<Lying> lying_;  // by where they begin
};

/// The smallest that the disk can be brought to when partitions may move.
LayerFloor packed_floor(const Guest& guest, Floors& floors, std::size_t disk);

}  // namespace jh

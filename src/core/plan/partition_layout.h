// Partitions of a disk in the order they lie in, and where those that may move come to lie: side by
// side towards the front, or out of the way towards the end.
#pragma once

#include <optional>
#include <vector>

#include "core/plan/floors.h"

namespace jh {

class PartitionLayout {
 public:
  struct Member {
    const Layer* layer = nullptr;
    Sectors first;
    Sectors count;
    bool stays = false;  // nobody knows what it is, or something finds it by its sectors
    Sectors end() const { return first + count; }
    /// Where it begins with what belongs to it in front: a logical partition's record.
    Sectors front() const { return first - layer->partition->lead; }
    bool moves() const { return first != layer->partition->first; }
  };

  /// The partitions as they lie; logical ones for the extended one around them. The guest must
  /// outlive it, and the disk have a table.
  PartitionLayout(const Guest& guest, std::size_t disk);

  const std::vector<Member>& members() const { return members_; }
  Member* find(const Layer& layer);
  bool has(const Layer& layer) const;
  /// Makes one shorter, as if its place had this size. An extended partition without logical ones
  /// stays as it is.
  void cut(Member& member, Bytes size) const;
  /// Each goes as far to the front as what stands before it lets it.
  void pack_to_front();
  /// Lets what stands behind members that became longer make room, in front of `usable`: as few as
  /// can go towards the end, and these as far as they can. False, and nothing is changed: there is
  /// not enough room, or something in the way stays where it is.
  bool make_room(Sectors usable);
  /// Whether a member could have so many sectors if the others made room, and how many at most.
  bool could_have(const Layer& layer, Sectors count, Sectors usable) const;
  Sectors most(const Layer& layer, Sectors usable) const;
  /// Where the last one ends.
  Sectors end() const { return members_.empty() ? Sectors(0) : members_.back().end(); }

  /// The extended partition and those in it, as they must be described anew.
  struct Extended {
    NewPlace outer;
    std::vector<NewPlace> logical;
  };
  /// When any logical one lies elsewhere, or the extended one would meet what stands in front of it
  /// or behind it, or `usable`.
  std::optional<Extended> extended(Sectors usable) const;

 private:
  bool push_to_end(std::size_t from, std::size_t last, Sectors wall);

  const Disk* disk_;
  std::vector<Member> members_;  // by where they begin
};

/// Why a partition does not move, in words; empty: it may.
std::string why_it_stays(const Layer& layer);

/// The smallest that the disk can be brought to when partitions may move.
LayerFloor packed_floor(const Guest& guest, Floors& floors, std::size_t disk);

}  // namespace jh

// Growing partitions of a disk that is kept in a layer (a guest's disk as a volume of its host): in
// place, when the layer has become larger or the disk has room.
#pragma once

#include "core/plan/grow_group.h"

namespace jh {

struct InnerTarget {
  const Layer* layer = nullptr;
  Amount amount;
  bool asked = true;           // by the user; else for what stands on it
  bool carries_group = false;  // which has steps of its own
  Bytes size;                  // resolved: of the partition
  Bytes content;               // resolved: what is in it becomes so large, or as large as its place
};

class InnerGrowth {
 public:
  explicit InnerGrowth(const Guest& guest) : guest_(&guest) {}

  const std::vector<InnerTarget>& targets() const { return targets_; }
  bool empty() const { return targets_.empty(); }

  /// Throws usage when it is named twice.
  void add(const Layer& layer, const Amount& amount, const std::string& written);
  /// For a group, or a disk, that stands on it.
  void add_below(const Layer& layer, const Amount& amount);
  /// What the layer that the disk is kept in has to gain; nothing: the disk has the room.
  std::optional<Amount> needs_below(const InnerTarget& target) const;
  /// Throws what stands against a change of the disk, or of what is in it.
  void check() const;
  /// How many layers lie below the deepest target.
  std::size_t deepest() const;
  /// Says how large those of this storey become, by the room that there is then. Throws refused.
  void resolve(GrowContext& scene, std::size_t storey);

 private:
  const Layer& outer_of(const Layer& layer) const;
  void resolve_one(GrowContext& scene, InnerTarget& target) const;

  const Guest* guest_;
  std::vector<InnerTarget> targets_;
};

}  // namespace jh

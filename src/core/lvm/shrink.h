// Shrinking: volumes lose extents at their end, extents move from one place to another, physical
// volumes become smaller or leave the group. Nothing counts before `commit`.
#pragma once

#include "core/base/progress.h"
#include "core/lvm/grow.h"

namespace jh::lvm {

/// The smallest size a plain volume can have that holds `extents`: whole stripes.
std::uint64_t whole_size(const Volume& volume, std::uint64_t extents);
/// Takes extents from a volume's end in the text; `extents` is what whole_size() said.
void reduce_volume(Group& group, const std::string& volume, std::uint64_t extents);

/// Extents of one physical volume that go to another place, as one run each.
struct ExtentMove {
  std::size_t volume = 0;
  std::size_t segment = 0;
  std::size_t stripe = 0;
  std::uint64_t inside = 0;  // from the start of the stripe
  std::uint64_t count = 0;
  Stripe from;
  Stripe to;
};

/// Where everything on `pv` from extent `first` on would go: to free extents in front of it, then
/// to other physical volumes but those in `leaving`. Throws refused when they do not suffice, and
/// unsupported, by name, for volumes that cannot be moved.
std::vector<ExtentMove> plan_moves(const Group& group, std::size_t pv, std::uint64_t first,
                                   const std::vector<std::size_t>& leaving);
/// Copies the extents, as unreferenced writes, and tells the text.
void move_extents(OpenGroup& open, const std::vector<ExtentMove>& moves, Progress& progress);
/// The same in the text only: for planning.
void plan_moved(Group& group, const std::vector<ExtentMove>& moves);

/// Takes an empty physical volume out of the text, and the label off its device.
void remove_device(OpenGroup& open, std::size_t pv);
/// The same in the text only.
void plan_removed(OpenGroup& open, std::size_t pv);

}  // namespace jh::lvm

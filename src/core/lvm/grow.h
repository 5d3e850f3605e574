// Growing: physical volumes, the group, and its volumes. Everything is changed in the group's text
// and on the devices' stores; nothing counts before `commit`.
#pragma once

#include "core/lvm/read.h"

namespace jh::lvm {

/// One more segment of a volume, or more of its last: `count` extents over all stripes.
struct Addition {
  std::uint64_t count = 0;
  std::vector<Stripe> stripes;
};

/// Where `extents` more of a plain volume would lie: behind its end if that is free, in one piece
/// if one fits, in the fewest pieces otherwise; never against its allocation policy. The additions
/// together may be less than asked for: there is no more room.
std::vector<Addition> allocate(const Group& group, const Volume& volume, std::uint64_t extents);
/// How many extents allocate() could find at most.
std::uint64_t room(const Group& group, const Volume& volume);
std::uint64_t total(const std::vector<Addition>& additions);
/// Extents come in multiples of this for the volume: its number of stripes.
std::uint64_t step_of(const Volume& volume);

/// Adds what allocate() said to the text.
void extend_volume(Group& group, const std::string& volume, const std::vector<Addition>& additions);

/// Extents that a physical volume of this size has.
std::uint64_t extents_of(const OpenGroup& open, std::size_t pv, std::uint64_t size);
/// Tells the text of a physical volume's new size.
void set_device_size(OpenGroup& open, std::size_t pv, std::uint64_t size);
/// The same on its device, where `size` bytes are left or were gained: the label, and a metadata
/// area at its end. No extent behind the new end may be in use.
void resize_device(OpenGroup& open, std::size_t pv, std::uint64_t size);

/// Makes a physical volume of a store, like the group's first: area sizes, alignment. Adds it to
/// the group.
void make_device(OpenGroup& open, Store& store, const std::string& id);
/// The same in the group's text only: for planning. `size` is the store's.
void plan_device(OpenGroup& open, std::uint64_t size);
/// Extents on a device that is made anew.
std::uint64_t new_extents(const OpenGroup& open, std::uint64_t size);

/// How the text names the stripes of a segment.
Value stripes_value(const Group& group, const std::vector<Stripe>& stripes);

/// Writes the text to every metadata area that is not ignored, with the next sequence number.
void commit(OpenGroup& open, const std::string& description, std::uint64_t now);

}  // namespace jh::lvm

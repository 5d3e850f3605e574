// Room: capacity that a layer could still hand to the layer above it.
#pragma once

#include "core/guest/guest.h"

namespace jh {

/// Room that a place could still take, were its disk `disk_size` large; a volume's is what its
/// group has free for it.
Bytes room_of(const Guest& guest, const Layer& layer, Bytes disk_size);
/// What the group has free for a volume, by the volume's own rules.
Bytes room_in_group(const Guest& guest, const Layer& volume);
/// How large a partition of a disk that is kept in a layer could be in place, were that disk so
/// large.
Bytes inner_reach(const Guest& guest, const Layer& layer, Bytes disk_size);

}  // namespace jh

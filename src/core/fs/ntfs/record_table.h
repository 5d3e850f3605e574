// The table of file records as it grows, and the bitmap of records in use.
#pragma once

#include "core/fs/ntfs/room.h"

namespace jh::ntfs {

/// Clusters from there, and records: $MFT grows when it has none free.
Room make_room(Filesystem& fs, Clusters& clusters, Mode mode);
/// Writes the bitmap of records, where it has changed.
void write_record_map(Filesystem& fs, Room& room);

}  // namespace jh::ntfs

// The table of file records as it grows, and the bitmap of records in use.
#pragma once

#include "core/fs/ntfs/room.h"

namespace jh::ntfs {

/// $MFT gets room for so many more records, all free. A Room that is there already does not know
/// it.
void grow_record_table(Filesystem& fs, Room& room, std::uint64_t records);
/// Clusters from there, and records: $MFT grows when it has none free.
Room make_room(Filesystem& fs, Clusters& clusters, Mode mode);
/// Writes the bitmap of records, where it has changed.
void write_record_map(Filesystem& fs, Room& room);

}  // namespace jh::ntfs

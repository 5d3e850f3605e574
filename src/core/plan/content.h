// The steps inside a place: what the filesystem or swap area in it needs to become larger.
#pragma once

#include "core/plan/plan.h"

namespace jh {

/// Adds the steps by which the content of a layer grows to at most `wanted`. What is left alone is
/// listed under what remains to be done.
void plan_content(Plan& plan, const Guest& guest, const Layer& layer, Bytes wanted);

/// The size of what is in a place, or of the place itself.
Bytes content_size(const Layer& layer);

/// Where a partition could end on a disk of this size, kept aligned if it is.
Sectors aligned_reach(const PartitionTable& table, const Partition& partition, Bytes disk_size);

/// Throws what stands against a change of the disk's table.
void check_table(const Disk& disk);
/// Throws refused when a part of the disk lies outside of the image's folder.
void check_parts(const Disk& disk, const ContainerFacts& facts);
/// "disk", or "2:disk" when the guest has several.
std::string disk_name(const Guest& guest, std::size_t disk);
/// "p3", or "2:p3" when the guest has several disks.
std::string partition_name(const Guest& guest, std::size_t disk, std::uint32_t number);
/// A step on a partition.
Step partition_step(const Guest& guest, std::size_t disk, const Partition& partition,
                    std::string action, Step::Work work);

/// The container's own steps on a disk that is changed, and becomes `new_size` large. Throws what
/// stands in the way of a change.
void plan_container(Plan& plan, const Guest& guest, const ChangeOptions& request, std::size_t disk,
                    Bytes new_size);
/// The table's own steps on a disk that becomes `new_size` large: repairs, the backup copy.
void plan_table(Plan& plan, const Guest& guest, std::size_t disk, Bytes new_size, bool repairs);
/// A partition's end moves, and its extended partition's with it where that is still `in_place`.
void plan_partition_end(Plan& plan, const Guest& guest, const Layer& layer, Sectors new_end,
                        bool in_place);
/// The new size that is asked for, in whole units, and checked. Notes go to the plan.
Bytes resolve_size(Plan& plan, const GrowRequest& request, const Disk& disk);
/// Notes on filesystems that are left with less than 5% free: a guest needs some room to live in.
void note_full_filesystems(Plan& plan, const Guest& guest);

}  // namespace jh

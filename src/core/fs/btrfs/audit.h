// Audit: whether what a filesystem says of itself holds.
#pragma once

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/fs/btrfs/volume.h"

namespace jh::btrfs {

/// Superblocks, chunks, the device's extents, block groups.
void audit_structure(const Volume& volume, Findings& findings);
/// All trees: blocks in all copies, extents against who refers to them, free space.
void audit_trees(const Volume& volume, Findings& findings, Progress& progress);
/// Files and folders of all subvolumes: names, links, lengths.
void audit_files(const Volume& volume, Findings& findings, Progress& progress);
/// Reads all content that has checksums.
void audit_content(const Volume& volume, Findings& findings, Progress& progress);
/// What must be as it was before a change of the size: superblock, chunks, the device's facts.
void audit_kept(const Volume& before, const Volume& after, bool chunks_move, Findings& findings);

}  // namespace jh::btrfs

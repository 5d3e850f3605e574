// What the passes of the audit hand to each other.
#pragma once

#include <fmt/format.h>

#include <unordered_map>
#include <vector>

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/fs/ext/bits.h"
#include "core/fs/ext/filesystem.h"
#include "core/fs/filesystem.h"

namespace jh::ext {

/// A name as it can be shown on a terminal.
inline std::string printable(std::string_view name) {
  std::string text;
  for (const char c : name) text += static_cast<unsigned char>(c) < 0x20 || c == 0x7F ? '?' : c;
  return text;
}

struct AuditState {
  /// `with_sets`: the passes over inodes need room for what they see.
  AuditState(Filesystem& filesystem, Findings& found, Progress& progress_to, bool with_sets)
      : fs(filesystem),
        findings(found),
        progress(progress_to),
        claimed(with_sets
                    ? ceil_div(filesystem.geometry().blocks, filesystem.geometry().cluster_ratio) +
                          1
                    : 0),
        used(with_sets ? filesystem.geometry().inodes() + 1 : 0),
        directories(with_sets ? filesystem.geometry().inodes() + 1 : 0) {}

  template <class... Args>
  void find(const std::string& where, fmt::format_string<Args...> text, Args&&... args) {
    findings.add("ext, " + where, fmt::format(text, std::forward<Args>(args)...));
  }
  std::uint64_t cluster_of(std::uint64_t block) const {
    const Geometry& g = fs.geometry();
    return (block - g.first_data_block) / g.cluster_ratio;
  }

  Filesystem& fs;
  Findings& findings;
  Progress& progress;
  Bits claimed;      // by cluster: metadata, and what inodes hold; empty without sets
  Bits used;         // by inode number
  Bits directories;  // by inode number
  struct SharedBlock {
    std::uint32_t claimed_refs = 0;  // what its header says
    std::uint32_t seen_refs = 0;
    std::uint64_t value_clusters = 0;  // of values that have inodes of their own
    bool has_encryption = false;
  };
  std::unordered_map<std::uint64_t, SharedBlock> xattr_blocks;
  std::unordered_map<std::uint32_t, std::uint32_t> value_inodes;  // referenced by attributes
  std::vector<std::uint16_t> links;       // by rank in `used`: what the inode says
  std::vector<std::uint32_t> names;       // by rank: how many entries lead to it
  std::vector<std::uint8_t> kinds;        // by rank: type bits of the mode
  std::vector<std::uint32_t> group_dirs;  // directories per group
};

/// Superblock copies, descriptors and the places of all group metadata.
void audit_layout(AuditState& state, std::uint32_t first_group);
/// The resize inode and the journal.
void audit_special_inodes(AuditState& state, AuditScope scope);
/// All inodes and the blocks they hold.
void audit_inodes(AuditState& state);
/// All directories, and from them link counts and what cannot be reached.
void audit_directories(AuditState& state);
/// Bitmaps and counts; against what the other passes saw when `against_use`.
void audit_bitmaps(AuditState& state, std::uint32_t first_group, bool against_use);

}  // namespace jh::ext

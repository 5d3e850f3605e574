// What the passes of the audit hand to each other.
#pragma once

#include <fmt/format.h>

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/fs/ntfs/room.h"

namespace jh::ntfs {

struct AuditState {
  AuditState(Filesystem& filesystem, Findings& found, Progress& progress_to, bool whole)
      : fs(filesystem),
        findings(found),
        progress(progress_to),
        all(whole),
        claimed(Buffer(filesystem.geometry().bitmap_bytes())),
        records(Buffer(ceil_div(filesystem.records(), 8))) {
    if (!whole) return;
    sequences.resize(filesystem.records());
    further.resize(filesystem.records());
    listed.resize(filesystem.records());
    names.resize(filesystem.records());
    entries.resize(filesystem.records());
    folders.resize(filesystem.records());
  }

  template <class... Args>
  void find(const std::string& where, fmt::format_string<Args...> text, Args&&... args) {
    findings.add("NTFS, " + where, fmt::format(text, std::forward<Args>(args)...));
  }

  Filesystem& fs;
  Findings& findings;
  Progress& progress;
  bool all;        // all records are looked at; else the volume's own
  BitMap claimed;  // by cluster
  BitMap records;  // by record, as the bitmap of records says
  // Below: only when all are looked at.
  std::vector<std::uint16_t> sequences{};  // of base records in use; 0: none
  std::vector<bool> further{};             // extension records in use
  std::vector<bool> listed{};              // those that their base names
  std::vector<bool> folders{};
  std::vector<std::uint64_t> names{};    // sums over the names that a file says it has
  std::vector<std::uint64_t> entries{};  // and over those that folders have for it
};

/// A number for a name in a folder; the sum over a file's names does not depend on their order.
std::uint64_t name_sum(std::uint64_t parent, std::uint8_t space, const std::u16string& name);

/// Record by record: fixups, attributes, run lists, sizes, clusters; then the bitmap of records.
void audit_records(AuditState& state);
/// All folders and other indexes, and from them which files have no name.
void audit_indexes(AuditState& state);

}  // namespace jh::ntfs

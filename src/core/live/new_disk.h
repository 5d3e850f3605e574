// A disk that a change takes: what will be written on it first, known to the byte before it is, so
// that what a run left that was cut off can be told from what somebody else has put there since.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "core/live/kernel.h"
#include "core/table/table.h"

namespace jh::live {

struct NewDisk {
  /// Sectors of 512 bytes that are not zero, by their place.
  using Sectors = std::map<std::uint64_t, Buffer>;

  std::string path;
  std::uint64_t size = 0;       // bytes
  std::string identity;         // by which the kernel knows it: a name may be another's tomorrow
  std::uint64_t partition = 0;  // where the partition begins that will be a physical volume
  Sectors table;                // with an empty table
  Sectors whole;                // with the partition in it

  bool is(const KernelDisk& disk) const {
    return disk.path == path && disk.size == size && disk.identity == identity;
  }
};

/// What a table of this kind with this one partition will be, with identities of its own.
NewDisk make_new_disk(const KernelDisk& disk, TableKind kind, std::uint32_t sector_size,
                      const NewPartition& partition);

/// For a note. Reading leaves out what cannot be read.
std::string new_disks_text(const std::vector<NewDisk>& disks);
std::vector<NewDisk> parse_new_disks(const std::string& text);

/// Whether every byte of it is zero or what a run that was cut off may have written: the table's,
/// or the head of a physical volume. Reads all of it.
bool is_blank_or_ours(Store& disk, const NewDisk& ours);

void write_sectors(Store& disk, const NewDisk::Sectors& sectors);

}  // namespace jh::live

// Partition tables: what they say, and how partitions change.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/base/findings.h"
#include "core/base/ranges.h"
#include "core/base/sizes.h"
#include "core/base/uuid.h"
#include "core/store/store.h"

namespace jh {

/// What partitions are aligned to by custom, in bytes.
constexpr std::uint64_t partition_alignment = 1U << 20;

enum class TableKind { mbr, gpt };
enum class PartitionRole { primary, extended, logical };
/// What its type says that a partition is for, where that means anything for a change.
enum class PartitionPurpose {
  any,
  lvm,           // a physical volume
  boot_code,     // found by its place
  rescue,        // what a system repairs itself with
  reserved,      // a system's own notes
  dynamic_disk,  // a part of volumes that the guest puts together
};

struct Partition {
  std::uint32_t number = 0;  // as the guest numbers them: p1, p2 ...
  PartitionRole role = PartitionRole::primary;
  Sectors first;
  Sectors count;
  Sectors
      lead;  // sectors in front that belong to it: a logical one's record, and the gap behind it
  std::string type_code;  // "0x83", or the GPT type's GUID
  std::string type_name;  // in words, for people
  PartitionPurpose purpose = PartitionPurpose::any;
  std::string label;                             // GPT name
  std::string part_uuid;                         // as PARTUUID= writes it
  Sectors end() const { return first + count; }  // one past the last sector
};

/// A run of sectors that no partition holds.
struct Gap {
  Sectors first;
  Sectors count;
  bool in_extended = false;
};

/// A partition that could be made.
struct NewPartition {
  std::uint32_t number = 0;
  PartitionRole role = PartitionRole::primary;
  Sectors first;
  Sectors end;
  bool operator==(const NewPartition&) const = default;
};

/// Where a partition is to begin and to end.
struct NewPlace {
  std::uint32_t number = 0;
  Sectors first;
  Sectors end;
};

struct TableFacts {
  TableKind kind = TableKind::mbr;
  std::uint32_t sector_size = 512;
  Sectors disk;  // sectors the disk has
  Sectors first_usable;
  Sectors usable_end;  // one past the last sector a partition may use once the table knows the
                       // whole disk; format limits are taken off
  Sectors known_end;   // the same, as the table stands now
  std::string id;      // disk signature or disk GUID
  std::vector<Partition> partitions;  // by number
  std::vector<std::string> repairs;   // what the next change puts right, and the audit reports
  std::vector<std::string> notes;     // limits and oddities worth telling
  std::vector<Error> blockers;        // reasons why this table must not be changed
};

class PartitionTable {
 public:
  PartitionTable() = default;
  PartitionTable(const PartitionTable&) = delete;
  PartitionTable& operator=(const PartitionTable&) = delete;
  virtual ~PartitionTable() = default;

  const TableFacts& facts() const { return facts_; }
  const Partition* find(std::uint32_t number) const;
  /// Sectors that partitions are aligned to, and the next such sector from one on, or up to it.
  std::uint64_t alignment() const { return partition_alignment / facts_.sector_size; }
  Sectors align_up(Sectors at) const { return Sectors(round_up(at.value(), alignment())); }
  Sectors align_down(Sectors at) const { return Sectors(round_down(at.value(), alignment())); }
  bool is_aligned(Sectors at) const { return at.value() % alignment() == 0; }
  /// Where this partition could end if it grew in place: the start of what stands behind it, or the
  /// end of the usable space; never less than where it ends now. For the last logical partition the
  /// extended one around it is taken to grow along.
  Sectors reach(const Partition& partition) const { return reach(partition, facts_.usable_end); }
  /// The same on a disk where partitions could use the sectors before `usable_end`.
  Sectors reach(const Partition& partition, Sectors usable_end) const {
    return reach(facts_.partitions, partition, usable_end);
  }
  /// usable_end, were the disk so large and the table told of it.
  virtual Sectors usable_end_on(Bytes disk_size) const = 0;
  /// Whether the partition must take its extended partition along to end there.
  const Partition* extended_to_grow(const Partition& partition, Sectors new_end) const;
  std::vector<Gap> gaps() const { return gaps(facts_.usable_end); }
  /// The same on a disk where partitions could use the sectors before `usable_end`.
  std::vector<Gap> gaps(Sectors usable_end) const { return gaps(facts_.partitions, usable_end); }

  /// Where a new partition would lie on a disk of this size, if its partitions were these: in the
  /// largest room, from one whole MiB to another. Throws refused when there is no room, or no entry
  /// for it.
  virtual NewPartition place_new(const std::vector<Partition>& among, Bytes disk_size) const = 0;
  /// Makes it, with the type of an LVM physical volume. `id` is its identity where the table keeps
  /// one.
  virtual void create(Store& disk, const NewPartition& partition, const Uuid& id) = 0;

  /// The bytes of the disk that its own structures take, in all their copies. Boot code in the same
  /// sectors is not theirs.
  virtual Ranges own_places() const = 0;

  /// True when the disk has sectors that the table's own structures do not cover yet.
  virtual bool must_move_spare() const { return false; }
  /// Lets the table know the whole disk, which may be larger than when the table was read, or a
  /// window on what will be left of it.
  virtual void cover_disk(Store& disk) = 0;
  /// Moves the end of a partition, and outwards the extended one around it where needed.
  virtual void move_end(Store& disk, std::uint32_t number, Sectors new_end) = 0;
  /// Gives a partition another beginning and end; not an extended or a logical one. What is in it
  /// has been copied already.
  virtual void move(Store& disk, std::uint32_t number, Sectors first, Sectors end) = 0;
  /// The same for an extended partition and all its logical ones, each with its lead in front:
  /// their records are written anew. What stood there before may be gone by now.
  virtual void move_chain(Store& disk, const NewPlace& extended,
                          const std::vector<NewPlace>& logical) = 0;
  /// Writes what `repairs` lists.
  virtual void repair(Store& disk) = 0;
  virtual void audit(Store& disk, Findings& findings) = 0;

 protected:
  Sectors reach(const std::vector<Partition>& among, const Partition& partition,
                Sectors usable_end) const;
  std::vector<Gap> gaps(const std::vector<Partition>& among, Sectors usable_end) const;
  /// The largest of these rooms, from one whole MiB to another; an empty range when there is none.
  std::pair<Sectors, Sectors> largest_room(const std::vector<Gap>& among) const;
  /// Records overlapping and out-of-range partitions as blockers.
  void check_layout(const std::string& where);
  TableFacts facts_;
};

/// Puts an empty table on a blank disk, to be filled by create().
std::unique_ptr<PartitionTable> make_table(Store& disk, TableKind kind, std::uint32_t sector_size);
/// Where the one partition of a disk with a table that was made so lies: from its first whole MiB
/// to its last. Throws refused when the disk is too small.
NewPartition only_partition(TableKind kind, std::uint32_t sector_size, Bytes disk_size);
/// The partition of this number; null: there is none.
const Partition* find_in(const std::vector<Partition>& among, std::uint32_t number);

/// Reads the table of a disk; null when there is none. `sector_size` 0: find out.
/// Throws damaged when there was one and no copy of it can be trusted.
std::unique_ptr<PartitionTable> open_table(Store& disk, std::uint32_t sector_size = 0);

std::string kind_name(TableKind kind);
/// A partition's type, for the types a guest's disk usually has.
struct PartitionType {
  std::string name;  // in words
  PartitionPurpose purpose = PartitionPurpose::any;
};
PartitionType mbr_type(std::uint8_t type);
PartitionType gpt_type(const std::string& guid);

}  // namespace jh

// Snapshots inside of qcow2 images, made and read by the letter of the specification, without any
// of the code under test.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace jh::test {

/// Makes one of the active state, as a hypervisor does: the L1 table copied, everything that it
/// names counted once more, the marks of single owners taken away. `state`: bytes of a guest's
/// memory, saved behind the disk's end. `with_size`: the disk's size goes on record. `made_at`:
/// seconds since 1970, and later for later ones.
void make_snapshot(const std::string& image, const std::string& name, std::uint64_t state = 0,
                   bool with_size = true, std::uint64_t made_at = 1'788'000'000);
/// Makes a snapshot's state the active one, as a hypervisor does.
void revert_to(const std::string& image, std::size_t snapshot);

struct SnapshotSeen {
  std::string id;
  std::string name;
  std::uint64_t disk_size = 0;  // 0: not on record
  std::uint64_t state_size = 0;
  std::uint32_t disk = 0;   // sum of all that the guest would see
  std::uint32_t state = 0;  // sum of the saved memory
  bool operator==(const SnapshotSeen&) const = default;
};
/// Each snapshot as it reads.
std::vector<SnapshotSeen> read_snapshots(const std::string& image);

/// Empty when every cluster has the count that the tables of all states give it; else what is
/// wrong.
std::string check_counts(const std::string& image);

}  // namespace jh::test

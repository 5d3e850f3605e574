// Run lists: where the clusters of an attribute lie.
#pragma once

#include <vector>

#include "core/store/store.h"

namespace jh::ntfs {

/// Clusters [vcn, vcn + count) of an attribute, in one piece of the volume, or in none.
struct ClusterRun {
  static constexpr std::uint64_t hole = UINT64_MAX;
  std::uint64_t vcn = 0;
  std::uint64_t lcn = hole;
  std::uint64_t count = 0;
  bool is_hole() const { return lcn == hole; }
  std::uint64_t vcn_end() const { return vcn + count; }
  std::uint64_t lcn_end() const { return lcn + count; }
  bool operator==(const ClusterRun&) const = default;
};
using ClusterRuns = std::vector<ClusterRun>;

/// The mapping pairs of a piece that begins with cluster `vcn` of the attribute. Throws damaged: a
/// run of nothing, one behind the volume's end, pairs that end nowhere.
ClusterRuns decode_runs(ConstByteSpan pairs, std::uint64_t vcn, std::uint64_t volume_clusters);
/// The other way; ends with a zero byte.
Buffer encode_runs(const ClusterRuns& runs);
/// Adds a run, joined with the last one where it goes on there.
void append_run(ClusterRuns& runs, const ClusterRun& run);
/// What lies in [vcn, end) of the attribute.
ClusterRuns part_of_runs(const ClusterRuns& runs, std::uint64_t vcn, std::uint64_t end);
std::uint64_t clusters_in(const ClusterRuns& runs);

}  // namespace jh::ntfs

#include "core/fs/ntfs/runs.h"

#include <algorithm>

namespace jh::ntfs {
namespace {

constexpr const char* in_run_list = "NTFS, run list";

// Little-endian, with a sign.
std::int64_t signed_number(ConstByteSpan bytes) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < bytes.size(); ++i) value |= std::uint64_t{bytes[i]} << (8 * i);
  if (!bytes.empty() && bytes.size() < 8 && (bytes.back() & 0x80) != 0)
    value |= ~std::uint64_t{0} << (8 * bytes.size());
  return static_cast<std::int64_t>(value);
}

std::size_t bytes_for(std::int64_t value) {
  std::size_t count = 1;
  while (count < 8 && (value < -(std::int64_t{1} << (8 * count - 1)) ||
                       value >= std::int64_t{1} << (8 * count - 1)))
    ++count;
  return count;
}

void put_number(Buffer& out, std::int64_t value, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i)
    out.push_back(static_cast<std::uint8_t>(static_cast<std::uint64_t>(value) >> (8 * i)));
}

}  // namespace

ClusterRuns decode_runs(ConstByteSpan pairs, std::uint64_t vcn, std::uint64_t volume_clusters) {
  ClusterRuns runs;
  std::uint64_t lcn = 0;
  for (std::size_t at = 0;;) {
    if (at >= pairs.size()) damaged("it has no end", in_run_list);
    const std::uint8_t head = pairs[at++];
    if (head == 0) return runs;
    const std::size_t length_bytes = head & 0x0F;
    const std::size_t lcn_bytes = head >> 4;
    if (length_bytes == 0 || length_bytes > 8 || lcn_bytes > 8 ||
        pairs.size() - at < length_bytes + lcn_bytes)
      damaged("a pair of it has sizes that cannot be", in_run_list);
    const std::int64_t length = signed_number(pairs.subspan(at, length_bytes));
    at += length_bytes;
    if (length <= 0 || static_cast<std::uint64_t>(length) > (std::uint64_t{1} << 48) ||
        vcn > (std::uint64_t{1} << 48))
      damaged("a run of it has a length that cannot be", in_run_list);
    ClusterRun run{vcn, ClusterRun::hole, static_cast<std::uint64_t>(length)};
    if (lcn_bytes != 0) {
      lcn += static_cast<std::uint64_t>(signed_number(pairs.subspan(at, lcn_bytes)));
      at += lcn_bytes;
      if (lcn >= volume_clusters || run.count > volume_clusters - lcn)
        damaged("a run of it lies behind the end of the volume", in_run_list);
      run.lcn = lcn;
    }
    vcn += run.count;
    runs.push_back(run);
  }
}

Buffer encode_runs(const ClusterRuns& runs) {
  Buffer out;
  std::uint64_t last = 0;
  for (const ClusterRun& run : runs) {
    const auto count = static_cast<std::int64_t>(run.count);
    const std::size_t length_bytes = bytes_for(count);
    if (run.is_hole()) {
      out.push_back(static_cast<std::uint8_t>(length_bytes));
      put_number(out, count, length_bytes);
      continue;
    }
    const auto step = static_cast<std::int64_t>(run.lcn - last);
    const std::size_t lcn_bytes = bytes_for(step);
    out.push_back(static_cast<std::uint8_t>(length_bytes | lcn_bytes << 4));
    put_number(out, count, length_bytes);
    put_number(out, step, lcn_bytes);
    last = run.lcn;
  }
  out.push_back(0);
  return out;
}

void append_run(ClusterRuns& runs, const ClusterRun& run) {
  if (run.count == 0) return;
  if (!runs.empty()) {
    ClusterRun& last = runs.back();
    const bool goes_on = last.vcn_end() == run.vcn && last.is_hole() == run.is_hole() &&
                         (run.is_hole() || last.lcn_end() == run.lcn);
    if (goes_on) {
      last.count += run.count;
      return;
    }
  }
  runs.push_back(run);
}

ClusterRuns part_of_runs(const ClusterRuns& runs, std::uint64_t vcn, std::uint64_t end) {
  ClusterRuns part;
  for (const ClusterRun& run : runs) {
    const std::uint64_t from = std::max(run.vcn, vcn);
    const std::uint64_t to = std::min(run.vcn_end(), end);
    if (from >= to) continue;
    part.push_back(
        {from, run.is_hole() ? ClusterRun::hole : run.lcn + (from - run.vcn), to - from});
  }
  return part;
}

std::uint64_t clusters_in(const ClusterRuns& runs) {
  std::uint64_t count = 0;
  for (const ClusterRun& run : runs)
    if (!run.is_hole()) count += run.count;
  return count;
}

}  // namespace jh::ntfs

#include "core/fs/ntfs/stream.h"

#include <algorithm>

namespace jh::ntfs {

template <class Visit>
void Stream::for_each_part(std::uint64_t offset, std::uint64_t length, Visit visit) const {
  const std::uint64_t end = checked_add(offset, length);
  auto run = std::upper_bound(runs_.begin(), runs_.end(), offset / cluster_size_,
                              [](std::uint64_t vcn, const ClusterRun& r) { return vcn < r.vcn; });
  if (run != runs_.begin()) --run;
  for (; run != runs_.end() && offset < end; ++run) {
    const std::uint64_t start = run->vcn * cluster_size_;
    const std::uint64_t run_end = run->vcn_end() * cluster_size_;
    if (run_end <= offset) continue;
    if (start > offset) break;
    const std::uint64_t step = std::min(end, run_end) - offset;
    const std::uint64_t at =
        run->is_hole() ? ClusterRun::hole : run->lcn * cluster_size_ + (offset - start);
    visit(at, offset, step);
    offset += step;
  }
  if (offset != end) damaged("an attribute has no clusters where it should", "NTFS, run list");
}

void Stream::read(std::uint64_t offset, ByteSpan out) const {
  if (offset > size_ || out.size() > size_ - offset)
    damaged("an attribute is shorter than what is looked for in it", "NTFS");
  if (store_ == nullptr) {
    std::copy_n(value_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
    return;
  }
  const std::uint64_t written =
      std::min<std::uint64_t>(out.size(), initialized_ - std::min(offset, initialized_));
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(written), out.end(), std::uint8_t{0});
  for_each_part(offset, written, [&](std::uint64_t at, std::uint64_t from, std::uint64_t step) {
    const ByteSpan part = out.subspan(from - offset, step);
    if (at == ClusterRun::hole)
      std::fill(part.begin(), part.end(), std::uint8_t{0});
    else
      store_->read(at, part);
  });
}

Buffer Stream::read(std::uint64_t offset, std::size_t length) const {
  // More is never read at once: the largest bitmap that there can be has half of it.
  constexpr std::size_t most = 1U << 30;
  if (length > most || offset > size_ || length > size_ - offset)
    damaged("an attribute is shorter than what is looked for in it, or longer than it can be",
            "NTFS");
  Buffer out(length);
  read(offset, out);
  return out;
}

void Stream::write(std::uint64_t offset, ConstByteSpan data, bool unreferenced) const {
  ensure(store_ != nullptr, "what is written has clusters");
  for_each_part(offset, data.size(), [&](std::uint64_t at, std::uint64_t from, std::uint64_t step) {
    if (at == ClusterRun::hole) damaged("metadata is said to lie in a hole", "NTFS, run list");
    const ConstByteSpan part = data.subspan(from - offset, step);
    if (unreferenced)
      store_->write_unreferenced(at, part);
    else
      store_->write(at, part);
  });
}

}  // namespace jh::ntfs

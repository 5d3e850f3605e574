#include "core/store/file_extents.h"

#include <linux/fiemap.h>
#include <linux/fs.h>
#include <sys/ioctl.h>

#include <algorithm>
#include <cstddef>
#include <vector>

namespace jh {
namespace {

constexpr std::size_t most_extents = 256;
// Where the bytes are is not told, or is no place of their own.
constexpr std::uint32_t elsewhere = FIEMAP_EXTENT_UNKNOWN | FIEMAP_EXTENT_DELALLOC |
                                    FIEMAP_EXTENT_ENCODED | FIEMAP_EXTENT_DATA_ENCRYPTED |
                                    FIEMAP_EXTENT_NOT_ALIGNED | FIEMAP_EXTENT_DATA_INLINE |
                                    FIEMAP_EXTENT_DATA_TAIL | FIEMAP_EXTENT_UNWRITTEN;

// Bytes of a file that lie in one run on the host's device.
struct FileExtent {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
  std::uint64_t place = 0;  // in bytes, of the filesystem's device
};

// From `offset` on, as far as the host tells where they are: the list ends in front of a hole, and
// when it is long enough.
std::vector<FileExtent> file_extents(int descriptor, std::uint64_t offset, std::uint64_t length) {
  // The answer stands behind the question, in one piece of memory.
  std::vector<std::uint64_t> memory(
      (sizeof(struct fiemap) + most_extents * sizeof(struct fiemap_extent)) / 8);
  auto* question = reinterpret_cast<struct fiemap*>(memory.data());
  question->fm_start = offset;
  question->fm_length = length;
  question->fm_flags = FIEMAP_FLAG_SYNC;
  question->fm_extent_count = most_extents;
  if (::ioctl(descriptor, FS_IOC_FIEMAP, question) != 0) return {};
  std::vector<FileExtent> found;
  std::uint64_t next = offset;
  const std::uint64_t end = offset + length;
  const std::size_t count = std::min<std::size_t>(question->fm_mapped_extents, most_extents);
  for (std::size_t i = 0; i < count && next < end; ++i) {
    const auto& extent = question->fm_extents[i];
    const bool covers = extent.fe_logical <= next && extent.fe_length > next - extent.fe_logical;
    if (!covers || (extent.fe_flags & elsewhere) != 0) break;
    const std::uint64_t inside = next - extent.fe_logical;
    const std::uint64_t step = std::min<std::uint64_t>(end - next, extent.fe_length - inside);
    found.push_back({next, step, extent.fe_physical + inside});
    next += step;
  }
  return found;
}

// Some filesystems keep the bytes of some files on a device of their own.
bool is_on_second_device(int descriptor) {
  struct fsxattr attributes {};
  return ::ioctl(descriptor, FS_IOC_FSGETXATTR, &attributes) == 0 &&
         (attributes.fsx_xflags & FS_XFLAG_REALTIME) != 0;
}

}  // namespace

std::uint64_t same_blocks_of(int one, std::uint64_t offset, int other, std::uint64_t there,
                             std::uint64_t length) {
  if (is_on_second_device(one) != is_on_second_device(other)) return 0;
  std::uint64_t done = 0;
  while (done < length) {
    const auto here = file_extents(one, offset + done, length - done);
    const auto far = file_extents(other, there + done, length - done);
    const std::uint64_t before = done;
    // Both lists begin at the same byte; either may be split more finely.
    std::size_t i = 0;
    std::size_t k = 0;
    while (i < here.size() && k < far.size()) {
      const std::uint64_t in_here = offset + done - here[i].offset;
      const std::uint64_t in_far = there + done - far[k].offset;
      if (here[i].place + in_here != far[k].place + in_far) return done;
      done += std::min(here[i].length - in_here, far[k].length - in_far);
      if (offset + done == here[i].offset + here[i].length) ++i;
      if (there + done == far[k].offset + far[k].length) ++k;
    }
    if (done == before) break;
  }
  return done;
}

}  // namespace jh

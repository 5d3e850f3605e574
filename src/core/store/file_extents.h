// Where the host's filesystem keeps the bytes of a file.
#pragma once

#include <cstdint>
#include <vector>

namespace jh {

/// Bytes of a file that lie in one run on the host's device.
struct FileExtent {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
  std::uint64_t place = 0;  // in bytes, of the filesystem's device
};

/// Extents from `offset` on, as far as the host tells where they are: the list ends in front of a
/// hole, of what is not written yet, compressed, encrypted, or kept with the file's own record, and
/// after some hundred extents. What waits to be written is brought out first. Source: the kernel's
/// documentation, filesystems/fiemap.
std::vector<FileExtent> file_extents(int descriptor, std::uint64_t offset, std::uint64_t length);

/// How many bytes, from the first one on, of one file and the other are the same blocks. Both lie
/// on one filesystem.
std::uint64_t same_blocks_of(int one, std::uint64_t offset, int other, std::uint64_t there,
                             std::uint64_t length);

}  // namespace jh

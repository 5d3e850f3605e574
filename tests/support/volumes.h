// Logical volumes in guests' disks, for outside judges.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace jh::test {

struct VolumePiece {
  std::string image;
  std::uint64_t offset = 0;  // bytes in the image
  std::uint64_t length = 0;
};

/// Where a volume lies, as the survey's JSON tells.
std::vector<VolumePiece> volume_pieces(const std::vector<std::string>& images,
                                       const std::string& volume);
/// A copy of a volume in a file of its own, put together from its pieces.
void extract_volume(const std::vector<std::string>& images, const std::string& volume,
                    const std::string& to);

/// What a boot loader's reader sees: the devices it finds, and a sum of a file's content.
std::string loader_devices(const std::vector<std::string>& images);
std::string loader_sum(const std::vector<std::string>& images, const std::string& file);

/// The metadata text in force on a physical volume that begins at `offset`, read without our own
/// code. Fails the test when the sequence, the sums or the place of it are wrong.
std::string metadata_text(const std::string& image, std::uint64_t offset);

}  // namespace jh::test

// A btrfs as guests have it: subvolumes, snapshots, compressed and shared content, holes,
// attributes.
#pragma once

#include <random>
#include <string>
#include <vector>

namespace jh::test {

struct BtrfsMade {
  const char* name;
  std::vector<std::string> options;
  std::string mount;  // further mount options, as ",compress=zstd"
};
/// Each feature that the maker offers, and several together.
const std::vector<BtrfsMade>& btrfs_makes();

/// Makes it with this size, and lets the kernel work on it for so many steps. What is left fills a
/// part of several chunks.
void make_lived_in_btrfs(const std::string& image, std::uint64_t size, const BtrfsMade& made,
                         std::mt19937& random, unsigned steps = 250);
/// Empty when the kernel reads all content against its sums and finds nothing.
std::string scrub(const std::string& image);

}  // namespace jh::test

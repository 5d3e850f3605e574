// XFS as guests have it: folders of every form, attributes, long links, shared and broken files.
#pragma once

#include <random>
#include <string>
#include <vector>

namespace jh::test {

struct XfsMade {
  const char* name;
  std::vector<std::string> options;
  std::uint64_t least = 0;  // bytes that it needs
};
/// Each feature that the maker offers alone, and several together: every combination would be
/// thousands.
const std::vector<XfsMade>& xfs_makes();

/// Among the maker's options: with parent pointers, which the maker does not know, but the kernel
/// writes when it finds them asked for. (Where it does: see kernel_knows_parents.)
constexpr const char* with_parents = "(parent pointers)";
bool kernel_knows_parents();
void add_parents(const std::string& image);
bool has_parents(const std::string& image);
/// Empty when the kernel says of each file and folder the folders and names that it was found by.
std::string check_parents(const std::string& image);

/// Options of the maker, any combination of what it offers that may stand together.
std::vector<std::string> any_xfs_options(std::mt19937_64& random);

/// Lets the kernel fill it: names, holes, attributes in the inode, in leaves, and in blocks of
/// their own; half of what was made is removed again.
void live_in_xfs(const std::string& image, std::mt19937_64& random);

}  // namespace jh::test

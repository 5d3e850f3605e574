// NTFS read a second time, by code that shares nothing with the program: what it accounts for must
// be what the bitmap says, and every file's content must be what it was.
#pragma once

#include <cstdint>
#include <map>
#include <string>

namespace jh::test {

/// Empty when clusters, records, copies and sizes add up; else the first thing that does not.
std::string account_ntfs(const std::string& image, std::uint64_t offset = 0,
                         std::uint64_t length = 0);

/// Of every file and stream ("27:$DATA:name", by number, type and name) a sum of its content as it
/// reads, or of the compressed clusters; the volume's own files that follow its size are left out.
std::map<std::string, std::uint64_t> ntfs_contents(const std::string& image,
                                                   std::uint64_t offset = 0);

/// What the boot sector says: bytes of the volume, its copy of the boot sector included.
std::uint64_t ntfs_size(const std::string& image, std::uint64_t offset = 0);

}  // namespace jh::test

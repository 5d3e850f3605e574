// A guest in memory: starts on a disk, as far as it would start, and writes files to what is free.
#pragma once

#include <string>
#include <vector>

#include "core/fs/ext/filesystem.h"
#include "core/store/host.h"

namespace jh::test {

/// Makes a file of noise in the root folder of one filesystem, accounted for in its quota files.
/// Returns its inode. Throws refused when there is no room.
std::uint32_t make_file(ext::Filesystem& fs, const std::string& name, std::uint64_t size);

/// Makes a file of noise in the root folder of every sound ext filesystem of the guest, through the
/// form of the image, the table and the volumes. False: the guest would not start on these images,
/// or has no room; nothing was written then.
bool guest_writes_files(Host& host, const std::vector<std::string>& images, const std::string& name,
                        std::uint64_t size);

}  // namespace jh::test

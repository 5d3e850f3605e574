// Fills an NTFS volume with folders and files: as many as benches and tests of size need.
#pragma once

#include <cstdint>
#include <string>

#include "core/store/store.h"

namespace jh::test {

struct NewNtfsFiles {
  std::uint64_t folders = 1;
  std::uint64_t files_each = 0;
  std::uint64_t bytes_each = 0;    // of a file; 0: empty
  std::uint64_t runs_each = 1;     // pieces that its content lies in
  std::uint64_t from_percent = 0;  // of the volume: content lies behind
  std::string name = "films";
};

/// The root folder must have no attribute list. Content is noise, the same in each run.
void add_ntfs_files(Store& place, const NewNtfsFiles& wanted);

}  // namespace jh::test

// The images of one guest, opened read-only, and the guest that is in them.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "core/change/recast.h"
#include "core/guest/guest.h"
#include "core/store/host.h"
#include "core/store/memory_store.h"

namespace jh {

struct OpenedGuest {
  std::vector<std::unique_ptr<MemoryStore>> blanks;  // disks to be added
  std::vector<std::unique_ptr<FileStore>> files;
  std::unique_ptr<Host> host;
  std::unique_ptr<HostFileResolver> resolver;
  std::unique_ptr<Guest> guest;
};

struct ImagesToOpen {
  std::vector<std::string> paths;
  std::string ledger_folder;    // of block devices
  FileHost::Reach reach;        // what images may speak of
  std::uint32_t sector_size{};  // 0: found out
  /// Disks that a change is to make, with their sizes; the guest sees them blank.
  std::vector<std::pair<std::string, Bytes>> added;
  /// What will be made of each image, and changed instead of it; the guest is seen so.
  std::vector<CopyPlan> copies;
};

/// Throws when one cannot be opened.
OpenedGuest open_guest(const ImagesToOpen& images);

}  // namespace jh

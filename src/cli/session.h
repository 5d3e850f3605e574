// Opening the images of one command.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "cli/options.h"
#include "core/guest/guest.h"
#include "core/store/host.h"
#include "core/store/memory_store.h"

namespace jh::cli {

struct Session {
  std::vector<std::unique_ptr<MemoryStore>> blanks;  // disks to be added
  std::vector<std::unique_ptr<FileStore>> files;
  std::unique_ptr<Host> host;
  std::unique_ptr<HostFileResolver> resolver;
  std::unique_ptr<Guest> guest;
};

/// Opens all images read-only and reads the guest. Throws when one cannot be opened.
/// `added`: disks that a change is to make, with their sizes; the guest sees them blank.
Session open_session(const Parsed& parsed, const std::vector<std::string>& images,
                     const std::vector<std::pair<std::string, Bytes>>& added = {});
/// Bytes that these files take on the host.
std::uint64_t allocated_on_host(const std::vector<std::string>& files);
/// How an image is kept: a raw one says nothing of it, and is as sparse as its host keeps it.
Allocation allocation_on_host(const ContainerFacts& facts, std::uint64_t allocated);
/// Throws refused when one of the images has an unfinished change. Returns whether the undo of a
/// finished one is kept.
bool check_no_unfinished_change(Host& host, const std::vector<std::string>& images);

}  // namespace jh::cli

// Opening the images of one command.
#pragma once

#include <string>
#include <vector>

#include "cli/options.h"
#include "core/change/opened_guest.h"

namespace jh::cli {

using Session = OpenedGuest;

/// Opens all images read-only and reads the guest. Throws when one cannot be opened.
/// `added`: disks that a change is to make, with their sizes; the guest sees them blank.
/// `copies`: what will be made of each image, and changed instead of it; the guest is seen so.
Session open_session(const Parsed& parsed, const std::vector<std::string>& images,
                     const std::vector<std::pair<std::string, Bytes>>& added = {},
                     const std::vector<CopyPlan>& copies = {});
/// Bytes that these files take on the host.
std::uint64_t allocated_on_host(const std::vector<std::string>& files);
/// How an image is kept: a raw one says nothing of it, and is as sparse as its host keeps it.
Allocation allocation_on_host(const ContainerFacts& facts, std::uint64_t allocated);
}  // namespace jh::cli

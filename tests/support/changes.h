// Small guests and changes of them, in memory: what the fault tests trouble.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <vector>

#include "core/change/carry_out.h"
#include "core/container/container.h"
#include "core/guest/guest.h"
#include "support/fault_host.h"
#include "support/qcow2_snapshots.h"

namespace jh::test {

/// Where the images of a guest are on its host; the last one is added by a change.
const std::string first_image = "/moor/guest.img";
const std::string second_image = "/moor/second.img";
const std::string added_image = "/moor/added.img";

/// The images of a guest, and a change of it.
struct GuestChange {
  const char* name;
  std::vector<std::string> samples;  // "full": a small filesystem, much of it in use
  ImageFormat format = ImageFormat::raw;
  Allocation allocation = Allocation::sparse;
  std::function<void(FaultHost&, const Guest&, const BeforeProof&)> work;
  bool with_snapshots = false;  // two inside of the first image, written to after each
};
void PrintTo(const GuestChange& change, std::ostream* out);

/// One of every sort: growing, shrinking, moving, compacting, recasting in place, several disks.
const std::vector<GuestChange>& guest_changes();

using Contents = std::map<std::string, MemoryStore>;
/// The images of the change, before it.
Contents images_of(const GuestChange& change);
void put(FaultHost& host, const Contents& contents);
/// `before_proof` is called where there is one proof for all.
void carry_out_on(FaultHost& host, const GuestChange& change, const BeforeProof& before_proof = {});

Contents contents_of(const FaultHost& host, bool with_ledgers);
bool same(const Contents& a, const Contents& b);
/// Those of the guest's images that are there. A new disk may be an empty file still, when the
/// power went before the ledger was begun.
std::vector<std::string> images_on(FaultHost& host);
/// What an image keeps inside, as it reads; empty: nothing, or it cannot be read.
std::vector<SnapshotSeen> snapshots_on(FaultHost& host, const std::string& image = first_image);
/// The files in the guest's filesystems, a line each; empty: one of the images cannot be read.
std::string files_of(FaultHost& host);

}  // namespace jh::test

// Recast: the same disk in a new image, of the same or another form; or kept in another way in
// place.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/container/create.h"
#include "core/plan/request.h"
#include "core/store/host.h"
#include "core/store/transfer.h"

namespace jh {

struct RecastRequest {
  std::string image;
  std::string out;  // empty: in place
  std::optional<ImageFormat> format;
  std::optional<Allocation> allocation;
  bool in_pieces = false;
  ProofEffort proof = ProofEffort::usual;
  Sharing sharing = Sharing::automatic;
  bool find_zeros = false;        // what is shared is read all the same: what is zero gets no place
  std::uint32_t sector_size = 0;  // that the disk's table counts in; 0: not known
  std::string adapter;            // of a VMDK disk; empty: as the image has it
};

struct RecastPlan {
  ContainerFacts from;
  NewContainer to;
  std::vector<std::string> parts;  // further files of the new image
  std::uint64_t bytes_to_read = 0;
  Transferred transfer;          // what will be shared with the old image, what copied
  std::uint64_t host_needs = 0;  // at most
  std::vector<std::string> notes;
};

/// Whether a VMDK descriptor can name a controller so.
bool is_adapter(const std::string& name);

/// Throws refused or unsupported for what cannot be.
RecastPlan plan_recast(Host& host, ImageReader& from, const RecastRequest& request);

/// Makes the new image, flushed; removes what was begun when anything fails. Returns what became of
/// its content.
Transferred carry_out_recast(Host& host, ImageReader& from, const RecastPlan& plan,
                             const RecastRequest& request, Progress& progress);

struct InPlaceResult {
  bool undoable = false;
  std::uint64_t given_back = 0;  // bytes of the host's, at least
};
/// Keeps the same image sparse or full from now on. A raw one only gets its host's room, or gives
/// zeros back; VDI and VHDX change through stage and ledger. Throws refused (no room, in the way)
/// and unsupported.
InPlaceResult recast_in_place(Host& host, const std::string& image, Allocation allocation,
                              Progress& progress);

/// A copy of a disk, to be changed instead of it.
struct CopyPlan {
  bool as_it_is = false;  // byte for byte, by sharing blocks where the host can
  RecastRequest request;  // else it is recast
  RecastPlan recast;
  Transferred transfer;  // what will be shared with the image, what copied
};
/// In the same form, unless another one is asked for, by `format` or by the ending of its name; as
/// it is when the image stands alone and has no identity. Throws what plan_recast() throws.
CopyPlan plan_copy(Host& host, ImageReader& from, const std::string& image, const std::string& out,
                   std::optional<ImageFormat> format, Sharing sharing);
struct CopyMade {
  std::vector<std::string> files;  // paths of all that were made
  Transferred content;
};
CopyMade make_copy(Host& host, const CopyPlan& plan, Progress& progress);

}  // namespace jh

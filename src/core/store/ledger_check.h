// Whether the images are, in every byte that a ledger speaks of, as the change left them or as it
// found them. Nothing is written here; what does not hold is thrown as refused, with image and
// place.
#pragma once

#include <vector>

#include "core/store/ledger_index.h"

namespace jh {

/// A decided change that may have been carried out in part: what the seal writes is the old byte or
/// the new one, what was written directly is there, and what will be cut off is as it was.
void check_can_finish(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images);
/// A decided change, or an undo, of which nothing was written yet: somebody may have used the
/// images, but no page is what would have been made of it.
void check_not_begun(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images);
/// A finished change: every byte of it is there, and nothing was added.
void check_can_undo(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images);
/// An undo that may have been carried out in part.
void check_can_finish_undo(Ledger& ledger, const LedgerIndex& index,
                           const std::vector<Store*>& images);

/// Whether the `length` bytes from `from` on, within `stretch` at `start` of the image, have the
/// checksums that the ledger has of them. What lies behind the image's end has not.
bool has_sums(Ledger& ledger, Store& image, std::uint64_t start, const LedgerRange& stretch,
              std::uint64_t from, std::uint64_t length);

}  // namespace jh

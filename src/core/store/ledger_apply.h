// What a ledger's records do to the images. What may be written to was checked before
// (ledger_check.h).
#pragma once

#include <vector>

#include "core/store/ledger_index.h"

namespace jh {

/// Writes the new bytes, flushes, then sets the new size. Doing it twice is doing it once.
void apply_changes(Ledger& ledger, const std::vector<Store*>& images);
/// Puts every old byte and the old size back: first what moved, then what it was moved over.
void put_back(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images);

}  // namespace jh

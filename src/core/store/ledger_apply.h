// What a ledger's records do to the images: applied, taken back, and compared.
#pragma once

#include <vector>

#include "core/base/ranges.h"
#include "core/store/ledger.h"

namespace jh {

/// Writes the new bytes, flushes, then sets the new size. Doing it twice is doing it once.
void apply_changes(Ledger& ledger, const std::vector<Store*>& images);
/// Undoes the direct writes of a change that was never committed.
void roll_back(Ledger& ledger, const std::vector<Store*>& images);
/// Puts every old byte and the old size back: first what moved, then what it was moved over.
void put_back(Ledger& ledger, const std::vector<Store*>& images);

/// Of each image: what a sealed change wrote before its seal.
std::vector<Ranges> written_directly(Ledger& ledger);

/// Each throws an Error, having written nothing, when its claim does not hold.
/// The images are the ones on which this unfinished change was begun.
void check_is_unfinished(Ledger& ledger, Host& host, const std::vector<Store*>& images);
/// Every byte the ledger speaks of is the old one or the new one.
void check_old_or_new(Ledger& ledger, const std::vector<Store*>& images);
/// Every byte the change wrote is still there, and nothing was added past the old end.
void check_untouched_since(Ledger& ledger, const std::vector<Store*>& images);

}  // namespace jh

// What a change hands out to content that it does not change itself: remembered in the ledger, so
// that an undo can tell whether somebody has begun to use it.
#pragma once

#include "core/staged/file_set.h"

namespace jh {

/// `after` is the guest as staged. Of each place that became larger around content that stayed as
/// it was, the new room and the content's head; of each disk that became larger, its head.
void note_assigned_ranges(const Guest& before, const Guest& after, const Plan& plan,
                          FileSet& files);

}  // namespace jh

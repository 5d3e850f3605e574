// What of the files of a guest's disks the old state does not refer to.
#pragma once

#include <map>
#include <string>

#include "core/base/ranges.h"
#include "core/guest/unused.h"

namespace jh {

/// By file: ranges that no layer uses and that hold a place in the file already. What is not known
/// to be unused is not in them.
std::map<std::string, Ranges> unreferenced_places(const Guest& guest, UnusedWhere where);

}  // namespace jh

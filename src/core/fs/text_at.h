// Text in fields of a fixed length.
#pragma once

#include <string>

#include "core/store/store.h"

namespace jh {

/// Without its padding; control characters become "?". Empty: the place is too short for it.
std::string text_at(Store& place, std::uint64_t offset, std::size_t length);

}  // namespace jh

// Which container form a file's content speaks of.
#pragma once

#include <optional>
#include <string>

#include "core/store/store.h"

namespace jh {

/// The name of a container form whose signature is in the file; nothing for a raw disk.
std::optional<std::string> recognise_form(Store& file);

}  // namespace jh

// Which container form a file's content speaks of.
#pragma once

#include "core/container/container.h"

namespace jh {

/// By signatures alone; raw when there is none.
Form recognise_form(Store& file);

}  // namespace jh

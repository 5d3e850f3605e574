// Which container form a file's content speaks of.
#pragma once

#include "core/container/container.h"

namespace jh {

/// By signatures alone; raw when there is none.
ImageFormat recognise_format(Store& file);

}  // namespace jh

// A disk as its copy will have it: the bytes of the original, in the form of the copy. So a change
// that is made on a copy is planned once, before the copy is there.
#pragma once

#include "core/change/recast.h"
#include "core/container/container.h"

namespace jh {

/// Takes over the image that is copied. Only planned with: it cannot be changed.
std::unique_ptr<Container> preview_of_copy(std::unique_ptr<Container> original,
                                           const CopyPlan& plan);

}  // namespace jh

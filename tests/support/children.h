// Images that build on another, put together field by field from the published layouts.
#pragma once

#include <string>

#include "core/container/container.h"

namespace jh::test {

/// Makes an empty image the child of another one of its form; `name`: the parent's, as the child is
/// to know it. VDI images know their parent by its identity alone, which must not be their own.
void make_child_of(Store& child, Store& parent, ImageFormat format, const std::string& name);

/// An empty child of an image, in a file of its own beside it. Returns its path.
std::string new_child(const std::string& parent, const std::string& name, ImageFormat format,
                      std::uint64_t disk_size);

}  // namespace jh::test

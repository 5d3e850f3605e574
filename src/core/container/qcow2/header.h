// The header of a qcow2 image, its extensions and its list of snapshots.
#pragma once

#include "core/container/qcow2/image.h"

namespace jh::qcow2 {

/// Throws damaged when a field cannot be true, unsupported for features that are not known, refused
/// for an image marked as corrupt.
Image read_header(Store& file);
/// Writes the fixed fields; extensions behind them stay.
void write_header(Store& file, const Image& image);
/// The parent's name alone, without looking further; empty: none.
std::string read_backing_name(Store& file);

}  // namespace jh::qcow2

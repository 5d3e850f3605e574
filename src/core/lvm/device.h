// A physical volume's own structures: its label, and the areas that hold copies of the group's
// text.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/errors.h"
#include "core/layer/layer_kind.h"
#include "core/lvm/format.h"
#include "core/store/store.h"

namespace jh::lvm {

/// Bytes on the device.
struct Area {
  std::uint64_t offset = 0;
  std::uint64_t size = 0;
  std::uint64_t end() const { return offset + size; }
};

struct MetadataArea {
  Area place;
  bool ignored = false;  // kept, but neither read nor written
  Area slot;             // of the text in force, from the area's start; size 0: none
  std::string text;      // without the zero that ends it; empty: none, ignored, or in trouble
  std::optional<Error> trouble;
};

struct Device {
  std::uint64_t label_sector = 1;
  std::string id;                 // 32 characters
  std::uint64_t device_size = 0;  // bytes, as the label says
  std::vector<Area> data;         // size 0: to the end
  std::vector<Area> boot;
  std::optional<std::uint32_t> extension_flags;
  std::vector<MetadataArea> areas;
};

/// "abcdef-ghij-..." as people read identities; and back (empty when it is none).
std::string id_with_hyphens(const std::string& id);
std::string id_without_hyphens(const std::string& id);

/// Whether a label is there at all.
bool recognise(Store& place);

/// What it belongs to is seen when all disks are known.
extern const LayerKind kind;
/// Label and metadata areas. Throws damaged when the label cannot be trusted; trouble in one area
/// is kept with it.
Device read_device(Store& place);

/// How far on its device it says to reach: by its label, its areas, and where its data begins.
/// Throws damaged for numbers that cannot be.
std::uint64_t claimed_size(const Device& device);

/// Writes the label where it was found.
void write_label(Store& place, const Device& device);
/// Puts a text into an area behind the one in force, and makes it the one in force. Refuses when
/// the area is too small for both.
void write_area(Store& place, MetadataArea& area, const std::string& text);
/// An area that holds no text yet.
void make_area(Store& place, MetadataArea& area);

}  // namespace jh::lvm

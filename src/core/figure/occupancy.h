// Occupancy: what of an image's file is used, free but kept, and given back; as numbers and as a
// figure.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/figure/scene.h"
#include "core/guest/guest.h"

namespace jh {

/// A stretch of the file; shares of its bytes, together at most 1. The rest is a hole.
struct OccupancyBin {
  double used = 0;    // what the guest uses
  double idle = 0;    // kept, and nobody uses it
  double tables = 0;  // the form's own, and gaps between blocks
};

struct Occupancy {
  static constexpr std::size_t bin_count = 608;
  std::string image;
  std::uint64_t length = 0;  // of its files, one behind the other
  std::uint64_t host = 0;    // bytes that they take on the host
  std::uint64_t disk = 0;    // bytes that the guest sees
  std::uint64_t used = 0;    // of these, what anything uses
  std::uint64_t idle = 0;    // of the file, kept for nobody
  std::vector<OccupancyBin> bins;
};

/// Reads tables and bitmaps. `host`: what the host says of its files, which only the caller knows.
Occupancy occupancy_of(const Guest& guest, std::size_t disk, std::uint64_t host,
                       Progress& progress);

/// `after` is nothing: the present state only.
Scene occupancy_scene(const Occupancy& before, const std::optional<Occupancy>& after,
                      const Measure& measure);

}  // namespace jh

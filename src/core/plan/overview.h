// The overview of one guest image, with what only a plan knows of it: room and floor.
#pragma once

#include <optional>
#include <string>

#include "core/guest/guest.h"

namespace jh {

struct ImageOverview {
  std::string image;
  std::string hostname;
  std::string format;
  std::uint64_t disk = 0;  // bytes
  std::uint64_t length = 0;
  std::uint64_t host = 0;             // filled in by who knows
  std::optional<std::uint64_t> used;  // of all filesystems; nothing: none is known
  std::uint64_t inside_free = 0;      // free in filesystems
  std::uint64_t room = 0;  // that nothing uses: behind partitions, in groups, unknown to a GPT
  std::uint64_t floor = 0;
  std::size_t blockers = 0;
  std::string state;    // "sound to change", or the first thing that stands in the way
  std::string trouble;  // it cannot be looked into
};

/// Of a guest with one disk.
ImageOverview overview_of(const Guest& guest);

}  // namespace jh

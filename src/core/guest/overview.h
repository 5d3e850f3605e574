// Overview: one line on each of many images, and whether a file is an image at all.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/guest/guest.h"

namespace jh {

/// Whether anything in the file says that it is a disk: a form of its own, a partition table, or
/// content that is known. A raw file of something else is none.
bool looks_like_disk(const Guest& guest);

struct ImageOverview {
  std::string image;
  std::string hostname;
  std::string form;
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

/// Regular files below these paths, sorted; folders are walked, links are not followed, ledgers are
/// left out. Throws io for a path that is not there.
std::vector<std::string> files_below(const std::vector<std::string>& paths);

}  // namespace jh

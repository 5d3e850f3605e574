// Who refers to which cluster of a qcow2 image, found by walking all of its tables.
#pragma once

#include <functional>

#include "core/base/findings.h"
#include "core/container/qcow2/header.h"

namespace jh::qcow2 {

/// `references` to each of `count` clusters from `first` on.
struct CountedRange {
  std::uint64_t first = 0;
  std::uint64_t count = 0;
  std::uint64_t references = 0;
};

struct References {
  std::vector<CountedRange> runs;  // in order, not overlapping
  std::uint64_t at(std::uint64_t cluster) const;
};

/// `active`: the L1 table in force. What cannot be true goes to `findings`; tables that are named
/// twice are walked once.
References find_references(Store& file, const Image& image,
                           const std::vector<std::uint64_t>& active,
                           const std::vector<std::uint64_t>& refcount_table, Findings& findings);

}  // namespace jh::qcow2

// Who refers to which cluster of a qcow2 image, found by walking all of its tables.
#pragma once

#include <functional>
#include <map>
#include <vector>

#include "core/base/findings.h"
#include "core/container/qcow2/header.h"

namespace jh::qcow2 {

/// How many refer to each cluster. Clusters in a row that have as many take next to no memory,
/// others two bytes each.
class References {
 public:
  /// `times` more for `count` clusters.
  void add(std::uint64_t first, std::uint64_t count, std::uint64_t times);
  std::uint64_t at(std::uint64_t cluster) const;
  /// Clusters with references, in order; those in a row that have as many together, as far as they
  /// are kept together.
  void for_each_run(const std::function<void(std::uint64_t first, std::uint64_t count,
                                             std::uint64_t references)>& visit) const;

 private:
  static constexpr std::uint64_t per_chunk = 4096;
  static constexpr std::uint16_t in_many = UINT16_MAX;
  struct Chunk {
    std::uint16_t all = 0;            // of every cluster, where `each` is empty
    std::vector<std::uint16_t> each;  // in_many: more than fit, they stand in many_
  };
  std::uint64_t in_chunk(const Chunk& chunk, std::uint64_t cluster) const;
  void add_to(std::uint64_t number, std::uint64_t from, std::uint64_t to, std::uint64_t times);

  std::map<std::uint64_t, Chunk> chunks_;
  std::map<std::uint64_t, std::uint64_t> many_;
};

/// `active`: the L1 table in force. What cannot be true goes to `findings`; tables that are named
/// twice are walked once.
References find_references(Store& file, const Image& image,
                           const std::vector<std::uint64_t>& active,
                           const std::vector<std::uint64_t>& refcount_table, Findings& findings);

}  // namespace jh::qcow2

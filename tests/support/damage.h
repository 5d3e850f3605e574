// Damage done to copies of an image, one after the other.
#pragma once

#include <functional>
#include <random>
#include <string>
#include <vector>

#include "core/store/memory_store.h"

namespace jh::test {

/// A structure in an image, in bytes.
struct SpoiledPlace {
  std::string name;
  std::uint64_t offset;
  std::uint64_t length;
};

/// Whether a damaged image was refused.
using LookAtDamage = std::function<bool(MemoryStore& damaged)>;

/// Each byte of the places in turn becomes all ones (change 0), zero (1), or differs by one bit
/// (2): those that `takes`. Some of them at least must be refused.
void spoil_each_byte(const MemoryStore& image, const std::vector<SpoiledPlace>& places,
                     const std::function<bool(std::uint64_t at, int change)>& takes,
                     const LookAtDamage& look);

/// A few bytes become others, at places that `place` gives, `rounds` times anew.
void spoil_at_random(const MemoryStore& image, int rounds, std::mt19937& random,
                     const std::function<std::uint64_t()>& place, const LookAtDamage& look);

}  // namespace jh::test

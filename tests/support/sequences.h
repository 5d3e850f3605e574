// A filesystem in memory that changes its size again and again.
#pragma once

#include <functional>
#include <random>
#include <string>

#include "core/store/memory_store.h"

namespace jh::test {

/// What one kind of filesystem brings to it.
struct Sequences {
  int count;        // of sequences; JUNEHEATH_SEQUENCES says another number
  int of_one_make;  // sequences, each from the same made filesystem
  int of_a_check;   // one of so many is looked at by the system's checker
  /// A new one in this file.
  std::function<void(const std::string& image, std::mt19937_64& random)> make;
  /// The changes of one sequence; the place has any size that they ask for.
  std::function<void(MemoryStore& place, std::mt19937_64& random)> change;
  /// The system's checker: nothing, or what it says.
  std::function<std::string(const std::string& image)> check;
};

/// After each sequence the audit is content and the tree as it was made. Returns how many there
/// were.
int run_sequences(const Sequences& kind);

}  // namespace jh::test

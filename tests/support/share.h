// Which part of a large matrix a run takes, and the seed of its random choices.
#pragma once

#include <gtest/gtest.h>

namespace jh::test {

/// JUNEHEATH_SEED, or a new one each time; printed.
unsigned seed_of_run();

/// Whether a run takes the present test: one in `share`, by the seed and the test's name; with
/// JUNEHEATH_FULL all.
bool is_taken(unsigned share);

}  // namespace jh::test

#define SKIP_UNLESS_TAKEN(share)              \
  if (!jh::test::is_taken(share)) {           \
    GTEST_SKIP() << "not in this run's part"; \
  }

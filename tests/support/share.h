// Which part of a large matrix a run takes, and the seed of its random choices.
#pragma once

#include <gtest/gtest.h>

#include <cstdint>
#include <vector>

namespace jh::test {

/// JUNEHEATH_SEED, or a new one each time; printed.
unsigned seed_of_run();

/// Whether a run takes the present test: one in `share`, by the seed and the test's name; with
/// JUNEHEATH_FULL all.
bool is_taken(unsigned share);

/// The same in a fixed turn: of so many days that follow each other each has its part, and all of
/// them everything. JUNEHEATH_TURN says another one; printed.
bool is_its_turn(unsigned share);

/// JUNEHEATH_FULL: a run takes all of everything.
bool takes_all();

/// How many damaged inputs a test makes: JUNEHEATH_INPUTS, or with JUNEHEATH_FULL `full`, else
/// `usual`.
int inputs_of(int usual, int full);

/// How many of so many random rounds a run makes: with JUNEHEATH_FULL all, else a quarter.
int rounds_of(int all);

/// The points of a sweep over 1 to `last` that a run troubles: with JUNEHEATH_FULL all, else one in
/// `share`, from a random one on, and all of the last `end`, where a change is sealed.
std::vector<std::uint64_t> points_of(std::uint64_t last, std::uint64_t share, std::uint64_t end);

}  // namespace jh::test

#define SKIP_UNLESS_ITS_TURN(share)             \
  if (!jh::test::is_its_turn(share)) {          \
    GTEST_SKIP() << "another day has its turn"; \
  }
#define SKIP_UNLESS_TAKEN(share)              \
  if (!jh::test::is_taken(share)) {           \
    GTEST_SKIP() << "not in this run's part"; \
  }

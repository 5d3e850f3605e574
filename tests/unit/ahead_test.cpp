// Work in a thread of its own, a few items ahead.
#include <gtest/gtest.h>

#include <atomic>
#include <stdexcept>

#include "core/base/prefetcher.h"

namespace jh::test {
namespace {

TEST(Prefetcher, KeepsTheOrderAndNeverRunsTooFar) {
  std::atomic<int> made = 0;
  std::atomic<int> used = 0;
  int furthest = 0;
  Prefetcher<int> numbers(3, [&](const auto& add) {
    for (int i = 0; i < 1000; ++i)
      add([&](int& item) {
        item = i;
        ++made;
        furthest = std::max(furthest, made - used);
      });
  });
  int expected = 0;
  while (const int* number = numbers.next()) {
    EXPECT_EQ(*number, expected++);
    used = expected;
  }
  EXPECT_EQ(expected, 1000);
  EXPECT_EQ(numbers.next(), nullptr) << "the end stays the end";
  EXPECT_LE(furthest, 4) << "three in the ring, one just taken";
}

TEST(Prefetcher, WhatTheMakerThrowsComesBehindWhatItMade) {
  Prefetcher<int> numbers(2, [](const auto& add) {
    for (int i = 0; i < 5; ++i) add([&](int& item) { item = i; });
    throw std::runtime_error("the disk is gone");
  });
  for (int i = 0; i < 5; ++i) {
    const int* number = numbers.next();
    ASSERT_NE(number, nullptr);
    EXPECT_EQ(*number, i);
  }
  EXPECT_THROW(numbers.next(), std::runtime_error);
}

TEST(Prefetcher, AFillThatThrowsIsNoItem) {
  Prefetcher<int> numbers(2, [](const auto& add) {
    add([](int& item) { item = 7; });
    add([](int&) { throw std::runtime_error("a sector cannot be read"); });
  });
  EXPECT_EQ(*numbers.next(), 7);
  EXPECT_THROW(numbers.next(), std::runtime_error);
}

TEST(Prefetcher, TheUserMayStopAtAnyTime) {
  for (int taken = 0; taken < 6; ++taken) {
    bool at_end = false;
    {
      Prefetcher<int> numbers(2, [&](const auto& add) {
        for (int i = 0; i < 1000000; ++i) add([&](int& item) { item = i; });
        at_end = true;
      });
      for (int i = 0; i < taken; ++i) EXPECT_EQ(*numbers.next(), i);
    }
    EXPECT_FALSE(at_end);
  }
}

TEST(Prefetcher, NothingIsMade) {
  Prefetcher<int> numbers(2, [](const auto&) {});
  EXPECT_EQ(numbers.next(), nullptr);
}

}  // namespace
}  // namespace jh::test

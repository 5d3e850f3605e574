// Large sets of small numbers, with ranks.
#pragma once

#include <array>
#include <bit>
#include <cstdint>
#include <memory>
#include <vector>

namespace jh::ext {

/// Memory: 4 KiB for each 32,768 numbers among which one is set.
class Bits {
 public:
  explicit Bits(std::uint64_t size)
      : size_(size), words_((size + 63) / 64), pages_((words_ + per_page - 1) / per_page) {}
  std::uint64_t size() const { return size_; }
  bool test(std::uint64_t bit) const { return (word(bit / 64) >> (bit % 64) & 1) != 0; }
  void set(std::uint64_t bit) {
    auto& page = pages_[bit / 64 / per_page];
    if (!page) page = std::make_unique<Page>();
    (*page)[bit / 64 % per_page] |= 1ULL << (bit % 64);
  }
  std::uint64_t word(std::uint64_t index) const {
    const auto& page = pages_[index / per_page];
    return page ? (*page)[index % per_page] : 0;
  }
  /// 64 of them from `bit` on, the first one lowest; those past the end are clear.
  std::uint64_t word_at(std::uint64_t bit) const {
    const std::uint64_t index = bit / 64;
    const std::uint64_t shift = bit % 64;
    const std::uint64_t low = index < words_ ? word(index) >> shift : 0;
    const bool has_more = shift != 0 && index + 1 < words_;
    return has_more ? low | word(index + 1) << (64 - shift) : low;
  }

  /// Ends the filling; from here on rank() may be asked.
  void index() {
    ranks_.clear();
    std::uint32_t total = 0;
    for (std::uint64_t i = 0; i < words_; ++i) {
      if (i % 8 == 0) ranks_.push_back(total);
      total += static_cast<std::uint32_t>(std::popcount(word(i)));
    }
    total_ = total;
  }
  std::uint32_t total() const { return total_; }
  /// How many set bits lie before this one.
  std::uint32_t rank(std::uint64_t bit) const {
    const std::uint64_t at = bit / 64;
    std::uint32_t count = ranks_[at / 8];
    for (std::uint64_t i = at / 8 * 8; i < at; ++i)
      count += static_cast<std::uint32_t>(std::popcount(word(i)));
    const std::uint64_t below = word(at) & ((1ULL << (bit % 64)) - 1);
    return count + static_cast<std::uint32_t>(std::popcount(below));
  }

 private:
  static constexpr std::uint64_t per_page = 512;
  using Page = std::array<std::uint64_t, per_page>;

  std::uint64_t size_;
  std::uint64_t words_;
  std::vector<std::unique_ptr<Page>> pages_;  // none: nothing of it is set
  std::vector<std::uint32_t> ranks_;
  std::uint32_t total_ = 0;
};

}  // namespace jh::ext

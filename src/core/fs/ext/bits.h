// Large sets of small numbers, with ranks.
#pragma once

#include <bit>
#include <cstdint>
#include <vector>

namespace jh::ext {

class Bits {
 public:
  explicit Bits(std::uint64_t size) : size_(size), words_((size + 63) / 64) {}
  std::uint64_t size() const { return size_; }
  bool test(std::uint64_t bit) const { return (words_[bit / 64] >> (bit % 64) & 1) != 0; }
  void set(std::uint64_t bit) { words_[bit / 64] |= 1ULL << (bit % 64); }
  void clear(std::uint64_t bit) { words_[bit / 64] &= ~(1ULL << (bit % 64)); }
  std::uint64_t word(std::uint64_t index) const { return words_[index]; }
  /// 64 of them from `bit` on, the first one lowest; those past the end are clear.
  std::uint64_t word_at(std::uint64_t bit) const {
    const std::uint64_t index = bit / 64;
    const std::uint64_t shift = bit % 64;
    const std::uint64_t low = index < words_.size() ? words_[index] >> shift : 0;
    const bool has_more = shift != 0 && index + 1 < words_.size();
    return has_more ? low | words_[index + 1] << (64 - shift) : low;
  }

  /// Ends the filling; from here on rank() may be asked.
  void index() {
    ranks_.clear();
    std::uint32_t total = 0;
    for (std::size_t i = 0; i < words_.size(); ++i) {
      if (i % 8 == 0) ranks_.push_back(total);
      total += static_cast<std::uint32_t>(std::popcount(words_[i]));
    }
    total_ = total;
  }
  std::uint32_t total() const { return total_; }
  /// How many set bits lie before this one.
  std::uint32_t rank(std::uint64_t bit) const {
    const std::uint64_t word = bit / 64;
    std::uint32_t count = ranks_[word / 8];
    for (std::uint64_t i = word / 8 * 8; i < word; ++i)
      count += static_cast<std::uint32_t>(std::popcount(words_[i]));
    const std::uint64_t below = words_[word] & ((1ULL << (bit % 64)) - 1);
    return count + static_cast<std::uint32_t>(std::popcount(below));
  }

 private:
  std::uint64_t size_;
  std::vector<std::uint64_t> words_;
  std::vector<std::uint32_t> ranks_;
  std::uint32_t total_ = 0;
};

}  // namespace jh::ext

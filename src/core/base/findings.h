// What an audit found. Bounded: a ruined disk must not fill the memory or the screen.
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <vector>

namespace jh {

struct Finding {
  std::string where;
  std::string what;
};

class Findings {
 public:
  static constexpr std::size_t max_kept = 1000;

  /// Keeps the finding unless the same one is there already; counts those beyond the limit.
  void add(const std::string& where, const std::string& what) {
    if (kept_.size() >= max_kept) {
      ++left_out_;
      return;
    }
    if (seen_.insert(where + '\n' + what).second) kept_.push_back({where, what});
  }
  const std::vector<Finding>& kept() const { return kept_; }
  std::uint64_t count() const { return kept_.size() + left_out_; }
  bool clean() const { return kept_.empty(); }

 private:
  std::vector<Finding> kept_;
  std::set<std::string> seen_;
  std::uint64_t left_out_ = 0;
};

}  // namespace jh

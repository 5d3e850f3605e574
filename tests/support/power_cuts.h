// The power goes at one operation of some work after the other: the loop of all such tests.
#pragma once

#include "support/fault_host.h"
#include "support/test.h"

namespace jh::test {

class PowerCuts {
 public:
  using Work = std::function<void(FaultHost&)>;
  using Look = std::function<void(FaultHost& host, std::uint64_t n)>;

  /// Does the work once to its end, which tells of how many operations it is.
  PowerCuts(Work prepare, Work work) : prepare_(std::move(prepare)), work_(std::move(work)) {
    prepare_(whole_);
    whole_.cut_at(0, Unflushed::kept);
    work_(whole_);
    operations_ = whole_.operations();
  }
  FaultHost& whole() { return whole_; }
  std::uint64_t operations() const { return operations_; }

  struct How {
    std::vector<Unflushed> fates{Unflushed::kept, Unflushed::lost, Unflushed::torn};
    bool in_turn = false;  // one of the fates at each operation, not all
    bool may_end = false;  // the work differs from time to time, and may end before its cut
    std::optional<std::vector<std::uint64_t>> points{};  // nothing: all operations
  };
  /// Each time on a fresh host; `look` gets it when the power is back, nothing recovered. Ends with
  /// the first failure.
  void everywhere(const How& how, const Look& look) const {
    std::mt19937 random(20261123);
    std::vector<std::uint64_t> all(operations_);
    std::iota(all.begin(), all.end(), 1);
    for (const std::uint64_t n : how.points.value_or(all))
      for (const Unflushed fate : how.fates) {
        if (how.in_turn && fate != how.fates[n % how.fates.size()]) continue;
        SCOPED_TRACE(
            fmt::format("cut at {} of {}, fate {}", n, operations_, static_cast<int>(fate)));
        FaultHost host;
        EXPECT_TRUE(is_cut(host, n, fate) || how.may_end) << "it came to its end";
        host.restart(random);
        look(host, n);
        if (testing::Test::HasFailure()) return;
      }
  }

 private:
  bool is_cut(FaultHost& host, std::uint64_t n, Unflushed fate) const {
    prepare_(host);
    host.cut_at(n, fate);
    try {
      work_(host);
    } catch (const PowerCut&) {
      return true;
    }
    return false;
  }

  Work prepare_;
  Work work_;
  FaultHost whole_;
  std::uint64_t operations_ = 0;
};

inline const std::vector<Unflushed> all_fates{Unflushed::kept, Unflushed::lost, Unflushed::torn,
                                              Unflushed::each};

/// Recovers an image; the power goes once more meanwhile, at its n-th operation.
inline void recover_with_a_cut(FaultHost& host, const std::string& image, std::uint64_t n) {
  std::mt19937 random(static_cast<unsigned>(n));
  host.cut_at(n, all_fates[n % all_fates.size()]);
  try {
    recover(host, image);
  } catch (const PowerCut&) {
  }
  host.restart(random);
  recover(host, image);
}

}  // namespace jh::test

// What a check has looked at, in numbers: for the report, so that "passed" says what it means.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace jh {

struct Evidence {
  std::string what;         // "bytes that differ, each where it may"
  std::uint64_t count = 0;  // in `unit`
  std::string unit;         // "bytes", "files"; empty: a plain number
};

/// Adds up: the same `what` in the same unit is one line.
class EvidenceList {
 public:
  void add(const std::string& what, std::uint64_t count, const std::string& unit = {}) {
    for (Evidence& known : all_)
      if (known.what == what && known.unit == unit) {
        known.count += count;
        return;
      }
    all_.push_back({what, count, unit});
  }
  const std::vector<Evidence>& all() const { return all_; }

 private:
  std::vector<Evidence> all_;
};

}  // namespace jh

// Where the parts of an image lie in its file, for audits: none may lie in another, or past the
// end.
#pragma once

#include <string>
#include <vector>

#include "core/base/findings.h"
#include "core/store/store.h"

namespace jh {

class Places {
 public:
  static constexpr std::uint64_t no_number = UINT64_MAX;

  /// `length` bytes from `at` on belong to "WHAT NUMBER"; of the last block, which may be cut
  /// short, at least `least` bytes have to be there.
  void add(std::uint64_t at, std::uint64_t length, std::uint64_t least, const char* what,
           std::uint64_t number = no_number);
  void add(std::uint64_t at, std::uint64_t length, const char* what,
           std::uint64_t number = no_number) {
    add(at, length, length, what, number);
  }
  /// Findings for what overlaps, and for what reaches past the file's end.
  void report(const std::string& where, std::uint64_t file_end, Findings& findings);

 private:
  struct Place {
    std::uint64_t at;
    std::uint64_t end;
    std::uint64_t least_end;
    const char* what;
    std::uint64_t number;
    std::string name() const;
  };
  std::vector<Place> places_;
};

}  // namespace jh

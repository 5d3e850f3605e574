// Content in two places, before and after a change: is it the same?
#pragma once

#include <map>
#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/staged/file_set.h"

namespace jh {

/// What it finds to be the same it tells the stages, so that an undo can fetch it from its new
/// place when the old one is cut off. The two states share files, but nothing that reading changes:
/// each is read by a thread of its own. Memory: six pieces of 1 MiB.
class ContentCheck {
 public:
  static constexpr std::uint64_t extent = 1U << 20;

  /// What moved by sharing the host's blocks is the same without being read; or that is read too.
  enum class Effort { blocks, bytes };

  /// The files must outlive it.
  explicit ContentCheck(FileSet& files, Effort effort = Effort::blocks);

  /// How many bytes, from the first one on, lie in the same blocks of the host before and after; 0:
  /// that is not known.
  std::uint64_t same_blocks(Store& before, std::uint64_t at, Store& after, std::uint64_t now_at,
                            std::uint64_t length);

  /// Whether `length` bytes, at most `piece`, of `before` from `at` on are those of `after` from
  /// `now_at` on.
  bool same_piece(Store& before, std::uint64_t at, Store& after, std::uint64_t now_at,
                  std::uint64_t length);
  /// Any number of bytes. Returns where the piece begins that differs; `length`: none does.
  std::uint64_t same_until(Store& before, std::uint64_t at, Store& after, std::uint64_t now_at,
                           std::uint64_t length, Progress& progress);
  /// Bytes found to be the same so far.
  std::uint64_t compared() const { return compared_; }
  /// Bytes that lie in the same blocks, and were not read.
  std::uint64_t shared() const { return shared_; }
  /// The bytes that same_piece() has read last.
  ConstByteSpan old_bytes() const { return old_.bytes; }
  ConstByteSpan new_bytes() const { return fresh_; }

 private:
  /// Where a part of a piece was, and its sum.
  struct OldLocation {
    Location location;
    std::uint32_t crc = 0;
  };
  struct OldExtent {
    std::uint64_t length = 0;
    bool zero = false;  // a hole, which is not read
    Buffer bytes;
    std::vector<OldLocation> locations;
  };

  static void read_old(Store& before, std::uint64_t at, std::uint64_t length, OldExtent& extent);
  bool same_piece(const OldExtent& old, Store& after, std::uint64_t now_at);
  void note(const OldExtent& old, Store& after, std::uint64_t now_at);

  std::uint64_t same_bytes_until(Store& before, std::uint64_t at, Store& after,
                                 std::uint64_t now_at, std::uint64_t length, Progress& progress);

  std::map<std::string, Stage*> stages_;
  bool any_shared_ = false;
  OldExtent old_;
  Buffer fresh_;
  std::uint64_t compared_ = 0;
  std::uint64_t shared_ = 0;
};

}  // namespace jh

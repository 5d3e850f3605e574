// Moving whatever lies behind a new end in front of it.
#pragma once

#include "core/base/progress.h"
#include "core/fs/ntfs/room.h"

namespace jh::ntfs {

class Mover {
 public:
  /// Nothing is to lie in cluster `end` or behind it.
  Mover(Filesystem& fs, Room& room, std::uint64_t end, Progress& progress)
      : fs_(fs), room_(room), end_(end), progress_(progress) {}
  /// All files, in the order of their numbers: $MFT and its mirror first. Throws refused (no room),
  /// unsupported.
  void run();
  std::uint64_t clusters() const { return moved_; }

 private:
  static bool is_all_resident(ConstByteSpan record);
  bool concerns(const Record& record) const;
  void move_file(const Record& record);
  bool move_stream(const File& file, std::size_t first, class FileEdit& edit);
  bool shorten_bitmap(const File& file, std::size_t first, FileEdit& edit);
  ClusterRuns moved(const ClusterRuns& runs, std::uint64_t with_content, bool whole);
  void copy(std::uint64_t from, std::uint64_t to, std::uint64_t count);

  Filesystem& fs_;
  Room& room_;
  std::uint64_t end_;
  Progress& progress_;
  std::uint64_t moved_ = 0;
};

}  // namespace jh::ntfs

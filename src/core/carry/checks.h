// Checks before a change: is the image ours alone? Looks at the host, not into the image.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/base/descriptor.h"
#include "core/store/file_store.h"

namespace jh {

/// Throws refused, saying who holds it, when the image is attached, mounted, locked, open in
/// another process, or marked read-only. `is_ours`: we hold its lock already.
void check_not_in_use(const std::string& path, bool is_ours = false);

/// The same for an image that is only read: refused when somebody has it open for writing.
void check_not_written_elsewhere(const std::string& path);

/// For work that writes, or that only reads for a while: several may read at one time.
enum class LockKind { changing, reading };

/// Our own lock, held while we are at work on an image: whoever honours locks stays away. A block
/// device that is changed is claimed exclusively.
class ImageLock {
 public:
  /// Throws refused when somebody else has one that goes against it, or holds the device.
  explicit ImageLock(const std::string& path, LockKind kind = LockKind::changing);

 private:
  Descriptor file_;
};

/// Notes what files are like before they are read for a while, for not everybody honours locks.
class SourceWatch {
 public:
  explicit SourceWatch(std::vector<std::string> files);
  /// Throws io when one of them was written to, or replaced, since.
  void check() const;
  /// For a look without a lock, where something was wrong. Throws refused when somebody wrote to
  /// one of the files since, or has it open for writing: then that is why.
  void check_still() const;

 private:
  struct State {
    std::uint64_t size = 0;
    std::uint64_t node = 0;
    std::int64_t seconds = 0;  // of the last write to it
    std::int64_t nanoseconds = 0;
    bool operator==(const State&) const = default;
  };
  static State state_of(const std::string& file);
  std::vector<std::string> files_;
  std::vector<State> before_;
};

/// Looks at files that nobody has to keep still meanwhile. Who writes to them makes them look
/// damaged, or shorter than they say: Throws refused instead, where somebody did.
template <class Look>
auto look_unlocked(const SourceWatch& watch, Look look) {
  try {
    return look();
  } catch (const Error& error) {
    if (error.status() == Status::damaged || error.status() == Status::io) watch.check_still();
    throw;
  }
}
template <class Look>
auto look_unlocked(const std::vector<std::string>& files, Look look) {
  return look_unlocked(SourceWatch(files), look);
}

}  // namespace jh

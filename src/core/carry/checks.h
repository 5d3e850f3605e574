// Checks before a change: is the image ours alone? Looks at the host, not into the image.
#pragma once

#include <memory>
#include <string>

#include "core/store/file_store.h"

namespace jh {

/// Throws refused, saying who holds it, when the image is attached, mounted, locked, open in
/// another process, or marked read-only.
void check_not_in_use(const std::string& path);

/// The same for an image that is only read: refused when somebody has it open for writing.
void check_not_written_elsewhere(const std::string& path);

/// Our own lock, held while we change an image: whoever honours locks stays away.
class ImageLock {
 public:
  /// Throws refused when somebody else has one.
  explicit ImageLock(const std::string& path);
  ~ImageLock();
  ImageLock(const ImageLock&) = delete;
  ImageLock& operator=(const ImageLock&) = delete;

 private:
  int fd_ = -1;
};

}  // namespace jh

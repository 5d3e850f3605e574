// A guest's disk images, and what is in them.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juneheath/error.h"

#pragma GCC visibility push(default)

namespace juneheath {

/// What a guest is opened for.
enum class Purpose {
  look,    // nothing is locked
  change,  // nobody else may use the images as long as the Guest lives
};

struct OpenOptions {
  Purpose purpose = Purpose::look;
  /// Where the ledgers of changes of block devices are kept.
  std::string ledger_folder = "/var/lib/juneheath";
  /// Whether an image may lead to files outside of the folders of the images.
  bool allow_outside = false;
  /// Of the disks: 512 or 4096; 0: found out.
  std::uint32_t sector_size = 0;
};

/// One layer: an image, a disk, a partition, a group, a volume, what is in one of them. Names stay
/// the same across a change. Sizes are bytes.
struct Layer {
  std::string name;    // "image", "disk", "p3", "ext4 on p3", "moor/home"
  std::string detail;  // "/home", "qcow2"
  std::uint64_t size = 0;
  std::optional<std::uint64_t> free;
};

/// Something worth knowing, and a command that helps where there is one.
struct Advice {
  std::string what;
  std::string next;  // as it is typed; may be empty
};

class Guest {
 public:
  /// The images are the disks of one guest, in order. Throws Error.
  explicit Guest(std::vector<std::string> images, const OpenOptions& options = {});
  ~Guest();
  Guest(Guest&&) noexcept;
  Guest& operator=(Guest&&) noexcept;

  const std::vector<std::string>& images() const;
  /// As it calls itself; may be empty.
  std::string hostname() const;
  std::vector<Layer> layers() const;
  std::vector<Advice> advice() const;
  /// The document that "juneheath survey --json" prints (docs/json.md), without what only the host
  /// knows.
  std::string survey_json() const;

  struct Inside;
  const Inside& inside() const { return *inside_; }

 private:
  std::unique_ptr<Inside> inside_;
};

/// "0.2.0"
std::string version();

}  // namespace juneheath

#pragma GCC visibility pop

// What a change will do, to the byte, before anything is touched.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juneheath/guest.h"

#pragma GCC visibility push(default)

namespace juneheath {

/// A disk becomes larger, or room that is there already is handed out.
struct Growth {
  std::optional<std::uint64_t> to;  // bytes of the disk; at most one of these two
  std::optional<std::uint64_t> by;
  std::optional<std::size_t> disk;  // which of the images; nothing: the one that can be meant
  /// "/home", "/home=5GiB", "swap=20%", "nothing"; none: what can be meant.
  std::vector<std::string> give;
  bool allow_move = false;     // what stands behind a target may move towards the disk's end
  bool new_partition = false;  // for a volume group, rather than growing a physical volume
};

/// A disk becomes smaller, or something in it.
struct Shrinking {
  std::optional<std::uint64_t> to;  // bytes of the disk; at most one of these three
  std::optional<std::uint64_t> by;
  bool to_floor = false;  // as small as it can be
  std::optional<std::size_t> disk;
  /// "/home=5GiB": what loses how much; without an amount all that it can.
  std::vector<std::string> take;
  bool allow_move = false;  // partitions may move towards the front
};

struct Step {
  std::string layer;       // "p3", "ext4 on p3"
  std::string action;      // "move its end outwards"
  std::uint64_t from = 0;  // bytes; equal where no size changes
  std::uint64_t to = 0;
};

class Plan {
 public:
  /// The guest must outlive the plan. Throws Error: what stands in the way.
  Plan(const Guest& guest, const Growth& growth);
  Plan(const Guest& guest, const Shrinking& shrinking);
  ~Plan();
  Plan(Plan&&) noexcept;
  Plan& operator=(Plan&&) noexcept;

  /// As the user would name it; empty: the disk alone.
  std::string target() const;
  std::vector<Step> steps() const;
  std::vector<std::string> notes() const;
  /// What the guest, or the hypervisor, must do itself.
  std::vector<std::string> remains() const;
  /// At most, the ledger included.
  std::uint64_t bytes_to_write() const;

  struct Inside;
  const Inside& inside() const { return *inside_; }

 private:
  std::unique_ptr<Inside> inside_;
};

}  // namespace juneheath

#pragma GCC visibility pop

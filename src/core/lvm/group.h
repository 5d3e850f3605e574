// A volume group as its text describes it: physical volumes, logical volumes, segments.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "core/base/errors.h"
#include "core/lvm/text.h"

namespace jh::lvm {

/// More extents than any group has: sizes are 64-bit bytes.
constexpr std::uint64_t most_extents = 1ULL << 40;

struct PhysicalVolume {
  std::string name;               // in the text: "pv0"
  std::string id;                 // 32 characters
  std::uint64_t device_size = 0;  // bytes
  std::uint64_t data_start = 0;   // bytes: where extent 0 begins
  std::uint64_t extents = 0;
  bool allocatable = true;
  bool missing = false;  // the text says so
  std::vector<std::string> tags;
  bool takes_more() const { return allocatable && !missing; }
};

/// A part of a segment: extents of one physical volume, beginning at `extent`.
struct Stripe {
  std::size_t pv = 0;
  std::uint64_t extent = 0;
};

struct Segment {
  std::string name;         // in the text: "segment1"
  std::uint64_t start = 0;  // extents, in the volume
  std::uint64_t count = 0;  // extents, over all stripes
  std::string type;
  std::uint64_t stripe_size = 0;  // bytes; 0 for a single stripe
  std::vector<Stripe> stripes;    // empty when the type is not "striped", or not on devices
  bool plain() const { return !stripes.empty(); }
  std::uint64_t on_each() const { return stripes.empty() ? 0 : count / stripes.size(); }
};

struct Volume {
  std::string name;
  std::string id;
  std::vector<std::string> status;
  std::string allocation;  // policy: "", "inherit", "contiguous", "cling", "normal", "anywhere"
  std::vector<std::string> tags;
  std::vector<Segment> segments;
  std::uint64_t extents = 0;
  bool visible = true;
  std::string kind;     // "linear", "striped", or the type we leave alone: "thin", "raid1" ...
  std::string used_by;  // a volume of another kind that is built on this one
  bool plain() const { return kind == "linear" || kind == "striped"; }
};

/// Extents [first, first + count) of a physical volume that a segment holds; `stripe` of
/// `segment` of `volume`.
struct Holding {
  std::uint64_t first = 0;
  std::uint64_t count = 0;
  std::size_t volume = 0;
  std::size_t segment = 0;
  std::size_t stripe = 0;
};

struct ExtentRange {
  std::size_t pv = 0;
  std::uint64_t first = 0;
  std::uint64_t count = 0;
};

class Group {
 public:
  /// Throws damaged when the text does not describe a group.
  explicit Group(Node text);

  std::string name;
  std::string id;
  std::uint64_t sequence = 0;
  std::uint64_t extent_size = 0;  // bytes
  std::string allocation;
  std::vector<PhysicalVolume> pvs;
  std::vector<Volume> volumes;
  std::vector<Error> blockers;  // why nothing of this group may be changed

  const Volume* find(const std::string& volume) const;
  /// Sorted by first extent.
  const std::vector<Holding>& holdings(std::size_t pv) const { return holdings_[pv]; }
  std::vector<ExtentRange> free_runs(std::size_t pv) const;
  std::uint64_t free_on(std::size_t pv) const { return free_[pv]; }
  std::uint64_t free_extents() const;  // on all physical volumes
  std::uint64_t total_extents() const;

  const Node& text() const { return text_; }
  /// Changes the text and reads it again. Throws like the constructor.
  template <class Edit>
  void edit(Edit change) {
    change(*text_.section(name));
    read();
  }
  /// The next sequence number, and what was done, into the text.
  void increment_sequence(const std::string& description, std::uint64_t now);

 private:
  void read();
  void read_devices(const Node& group);
  void read_volumes(const Node& group);
  Segment read_segment(const Node& node, const std::string& volume);
  void hold(const Volume& volume, std::size_t number);
  void mark_used(const Node& segment, std::uint64_t count, std::size_t volume);
  void find_users(const Node& group);
  void find_blockers(const Node& group);

  Node text_;
  std::map<std::string, std::size_t> pv_index_;
  std::vector<std::vector<Holding>> holdings_;
  std::vector<std::uint64_t> free_;  // extents, by physical volume
};

}  // namespace jh::lvm

// View: a guest's layers as plain values, for drawing and for comparing two states of it. It
// outlives the images that it was read from.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/guest/guest.h"
#include "core/plan/plan.h"

namespace jh {

/// What a stretch of a disk, or of a group, is drawn as.
enum class PieceKind { files, swap, device, encrypted, unknown, empty, room };

struct PieceView {
  std::string key;    // "p3", "group/volume": the same before and after a change
  std::string name;   // as a technician calls it: "/var"
  std::string holds;  // "ext4"; empty: nothing
  PieceKind kind = PieceKind::unknown;
  Bytes start;  // on its disk, or in its group
  Bytes size;
  std::optional<Bytes> content;  // how far what it holds reaches
  std::optional<Bytes> used;     // of that
  Bytes end() const { return start + size; }
};

/// A disk, or a volume group: what lies side by side in it.
struct PanelView {
  std::string key;    // "disk 1", "group station"
  std::string title;  // the image's name, or the group's
  std::string note;   // "qcow2, 1.2 GiB long"
  bool group = false;
  Bytes size;
  std::vector<PieceView> devices;  // of a group: the physical volumes, side by side
  std::vector<PieceView> pieces;   // ascending, room included
  std::vector<std::pair<unsigned, std::string>> states;  // level, words; may be left out
};

struct GuestView {
  std::string hostname;
  std::vector<PanelView> panels;  // disks, then groups
  const PanelView* panel(const std::string& key) const;
};

GuestView view_of(const Guest& guest);
/// The same with the states that its images keep, for which all tables of their snapshots are read.
GuestView view_with_states(const Guest& guest);

/// The guest as the plan says it will be; what the plan leaves open (where extents come to lie, how
/// much of it files use) stays as it is.
GuestView planned_view(const Guest& guest, const Plan& plan);

}  // namespace jh

// Plan: the steps, with every amount computed to the byte, before anything is touched.
#pragma once

#include <algorithm>
#include <string>
#include <vector>

#include "core/base/shell_word.h"
#include "core/container/create.h"
#include "core/guest/guest.h"
#include "core/plan/layout.h"
#include "core/plan/request.h"
#include "core/plan/step.h"

namespace jh {

struct DiskChange {
  std::string path;
  Bytes from;
  Bytes to;
  NewContainer made{};                   // of a disk that is added
  std::vector<std::string> new_parts{};  // its further files
  std::vector<std::string> let_go{};     // files that are empty afterwards
  bool cut_later = false;                // the host's device is made so small afterwards, by hand
};

struct Plan {
  std::string command = "grow";     // for what is written down of the change
  std::vector<DiskChange> disks;    // every disk of the guest, changed or not
  std::string target;               // as the user would name it; empty: the disk alone
  std::vector<LayerId> targets;     // the layers that may change inside
  std::vector<std::string> groups;  // the volume groups that change, or hold such a place
  std::vector<Step> steps;
  std::vector<std::string> notes;    // worth knowing; nothing stands in the way
  std::vector<std::string> remains;  // what the guest must do itself
  std::uint64_t bytes_to_write = 0;  // an upper bound, ledger included
  std::uint64_t of_content = 0;      // of those, what a host that shares blocks has already
  Layout after;                      // what the steps make of the guest

  /// Says of each step what it changes, and what all of them lead to.
  void resolve(Layout before);

  bool touches(std::size_t disk) const;
  /// Whether the disk gets its first table: it is new, or was blank.
  bool makes_table(std::size_t disk) const { return has<step::CreateDisk>(LayerId(disk)); }
  bool changes(const VolumeGroup& group) const;
  /// Notes that the group changes, and with it what those hold that it stands on.
  void add_group(const Guest& guest, const VolumeGroup& group);
  /// Calls visit(step, work) for each step of a kind, in order.
  template <class Kind, class Visit>
  void for_each(Visit visit) const {
    for (const Step& step : steps)
      if (const Kind* work = step.as<Kind>()) visit(step, *work);
  }
  template <class Kind>
  bool has() const {
    return std::any_of(steps.begin(), steps.end(),
                       [](const Step& step) { return step.is<Kind>(); });
  }
  /// Whether a step of this kind is on this place.
  template <class Kind>
  bool has(const LayerId& layer) const {
    return std::any_of(steps.begin(), steps.end(),
                       [&](const Step& step) { return step.is<Kind>() && step.layer == layer; });
  }
  /// Whether anything becomes smaller, moves, or goes: what stood there is not referred to
  /// afterwards.
  bool lets_go() const;
  /// Whether files in this place may lie elsewhere in it afterwards.
  bool moves_content(const LayerId& layer) const;
};

}  // namespace jh

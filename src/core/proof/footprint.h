// Footprint: which bytes of a guest a change may touch. Everything else must stay as it is.
#pragma once

#include <map>
#include <memory>
#include <set>

#include "core/base/ranges.h"
#include "core/plan/plan.h"

namespace jh {

class Footprint {
 public:
  /// `before` is the guest as it was, and must outlive the footprint.
  Footprint(const Guest& before, const Guest& after, const Plan& plan);
  ~Footprint();
  Footprint(const Footprint&) = delete;
  Footprint& operator=(const Footprint&) = delete;

  /// Throws damaged when the change may not touch these bytes of the disk.
  void check(std::size_t disk, std::uint64_t at, std::uint64_t length);
  /// Of a target whose blocks moved: what changed in it so far, by what check() was asked.
  const Ranges& changed_in(const LayerId& where) const;

 private:
  class Inside;  // of one target

  void note_kept();
  void note_places();
  void note_reached();
  std::uint64_t kept_of(const Layer& layer) const;
  // A disk of the guest, or one that is kept in a layer: as it was, and as it is.
  struct Partitioned {
    LayerId id;
    const std::vector<Layer>& layers;
    Store& was;
    Store& is;
    std::string where;
  };
  void check_partitioned(const Partitioned& disk, std::uint64_t at, std::uint64_t length);
  void check_outside(const Partitioned& disk, std::uint64_t at, std::uint64_t length);
  bool changes_inside(const Layer& layer) const;
  void check_place(const Layer& layer, std::uint64_t at, std::uint64_t length);
  void check_device(const VolumeGroup& group, std::size_t pv, std::uint64_t at,
                    std::uint64_t length);
  void check_device_front(const VolumeGroup& group, std::size_t pv, std::uint64_t at,
                          std::uint64_t length);
  void check_held(const VolumeGroup& group, const lvm::Holding& held, std::uint64_t inside,
                  std::uint64_t length);

  const Guest& before_;
  const Guest& after_;
  const Plan& plan_;
  std::map<const Layer*, std::unique_ptr<Inside>> targets_;
  /// By disk, those that are kept in layers too: the partitions as they were and as they become,
  /// and the tables themselves. What lies outside of them is nobody's to change: boot loaders keep
  /// parts of themselves there.
  std::map<LayerId, Ranges> places_;
  std::set<LayerId> reached_;
  /// Bytes from the start of a place that stay its own, where that is not all of it: what moves is
  /// compared where it goes, and what a place gives up may be another's by now.
  std::map<const Layer*, std::uint64_t> kept_;
};

}  // namespace jh

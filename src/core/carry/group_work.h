// The steps in one volume group.
#pragma once

#include <memory>
#include <vector>

#include "core/base/progress.h"
#include "core/lvm/read.h"
#include "core/plan/plan.h"

namespace jh {

class GroupWork {
 public:
  /// Opens the place of a physical volume, as the steps so far have left it.
  using OpenDevice = std::function<std::unique_ptr<Store>(const LayerId&)>;

  /// `known` is the group as it was; all must outlive it. Its devices are read from the stages.
  /// `now`: seconds since 1970, when its metadata say that they were written.
  GroupWork(const VolumeGroup& known, const Guest& before, const Plan& plan, std::uint64_t now,
            OpenDevice open);

  std::unique_ptr<Store> open_volume(const LayerId& id);

  void run(const Step& step, const step::GrowPhysicalVolume& work);
  void run(const Step& step, const step::AddDevice& work);
  void run(const Step& step, const step::ShrinkDevice& work);
  void run(const Step& step, const step::RemoveDevice& work);
  void run(const Step& step, const step::MoveExtents& work, Progress& progress);
  void run(const Step& step, const step::GrowVolume& work);
  void run(const Step& step, const step::ShrinkVolume& work);
  void run(const Step& step, const step::CommitGroup& work);

 private:
  const lvm::Volume& volume_of(const LayerId& id) const;
  std::size_t device_of(const LayerId& id) const;

  const VolumeGroup& known_;
  const Guest& before_;
  const Plan& plan_;
  std::uint64_t now_;
  OpenDevice open_device_;
  std::vector<std::unique_ptr<Store>> devices_;
  std::unique_ptr<lvm::OpenGroup> group_;
};

}  // namespace jh

// Worker: carries out the steps of a plan, one after the other, on the stages.
#pragma once

#include <memory>
#include <vector>

#include "core/base/progress.h"
#include "core/lvm/read.h"
#include "core/staged/file_set.h"

namespace jh {

class Worker {
 public:
  Worker(const Guest& before, const Plan& plan, FileSet& files);
  ~Worker();
  Worker(const Worker&) = delete;
  Worker& operator=(const Worker&) = delete;

  void run(const Step& step, Progress& progress);

 private:
  class DiskWork;

  DiskWork& disk(std::size_t index);
  void run_on_disk(const Step& step, Progress& progress);
  void run_in_group(const Step& step, Progress& progress);
  void run_inside(const Step& step, Progress& progress);
  // The place a step is on, as the steps before have left it.
  std::unique_ptr<Store> place(const Step& step);
  // The group that changes, read from the stages when its first step comes.
  lvm::OpenGroup& group();
  // The same as it was before.
  const VolumeGroup& known_group() const;
  const lvm::Volume& volume_of(const Step& step);
  std::size_t device_of(const Step& step);

  const Guest& before_;
  const Plan& plan_;
  FileSet& files_;
  std::vector<std::unique_ptr<DiskWork>> disks_;
  std::vector<std::unique_ptr<Store>> device_places_;
  std::unique_ptr<lvm::OpenGroup> group_;
};

}  // namespace jh

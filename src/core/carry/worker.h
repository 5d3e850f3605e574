// Worker: carries out the steps of a plan, one after the other, on the stages.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/staged/file_set.h"

namespace jh {

class DiskWork;
class GroupWork;

class Worker {
 public:
  /// `now`: seconds since 1970, for what says when it was changed.
  Worker(const Guest& before, const Plan& plan, FileSet& files, std::uint64_t now);
  ~Worker();
  Worker(const Worker&) = delete;
  Worker& operator=(const Worker&) = delete;

  void run(const Step& step, Progress& progress);

 private:
  class Visitor;

  DiskWork& disk(std::size_t index);
  // A group that changes, read from the stages when its first step comes.
  GroupWork& group(const std::string& name);
  // That a volume is in; that a physical volume is a part of.
  GroupWork& group_of(const LayerId& volume);
  GroupWork& group_on(const LayerId& device);
  // Of the table on a layer.
  std::uint32_t sector_size_on(const LayerId& id) const;
  // The place a step is on, as the steps before have left it.
  std::unique_ptr<Store> layer(const LayerId& id);

  const Guest& before_;
  const Plan& plan_;
  FileSet& files_;
  std::uint64_t now_;
  std::vector<std::unique_ptr<DiskWork>> disks_;
  std::map<std::string, std::unique_ptr<GroupWork>> groups_;
};

}  // namespace jh

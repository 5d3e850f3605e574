// Carrying out a plan on the running system: step by step, each of which leaves it sound.
#pragma once

#include <functional>

#include "core/base/progress.h"
#include "core/live/notes.h"
#include "core/live/running_system.h"

namespace jh::live {

/// What the tables were before a change, beside each other in a folder.
struct TablesKept {
  std::string folder;
  std::string command;  // that puts them back; empty: the change is of no table
};
/// Keeps tables and LVM metadata of all that a plan touches, durable on return. Throws io.
TablesKept keep_tables(const RunningSystem& system, const Plan& plan, const std::string& folder);

/// Once the change is done: the tables stay where they are kept, and nothing offers to put them
/// back.
void end_put_back(TablesKept& kept);

/// How the system is looked at again after a step.
using LookAgain = std::function<std::unique_ptr<RunningSystem>()>;

/// Lets the system's own volume tools go first that wait for a lock; false: one of them has changed
/// a group.
using OthersFirst = std::function<bool()>;

/// What is to be done, and what it will write on disks that it takes.
struct LiveWork {
  Kernel& kernel;
  const RunningSystem& before;
  const Plan& plan;
  std::vector<NewDisk> new_disks{};
};

/// Carries out the steps in order. After each the kernel is asked, and what it says compared with
/// the plan. Throws io (a step failed; the system is sound, and a second run does the rest).
/// `others_first` is called when partitions have become larger and no metadata says so yet; when it
/// says no, the rest of the plan is not done, and false comes back. `done`: told of each step when
/// it is done.
bool carry_out_live(const LiveWork& work, const Notes& notes, const LookAgain& look_again,
                    const OthersFirst& others_first, Progress& progress,
                    const std::function<void(const Step&)>& done);

}  // namespace jh::live

// Jobs: tasks side by side, each in a process of its own, so that what happens to one does not
// happen to the others.
#pragma once

#include <sys/types.h>

#include <functional>
#include <string>
#include <vector>

#include "core/order/results.h"

namespace jh::cli {

/// What a process does; its exit status.
using TaskWork = std::function<int(const Order& order, const Task& task, int progress_pipe)>;

struct JobLimits {
  std::size_t jobs = 1;
  std::size_t per_storage = 0;           // on one filesystem of the host; 0: as many as jobs
  std::optional<std::uint64_t> memory;   // bytes, for all of them together
  std::optional<std::int64_t> deadline;  // none begins afterwards
  bool stop_after_failure = false;
};
JobLimits limits_of(const Order& order);

/// The host's filesystem that the guest's first image lies on.
dev_t storage_of(const Order& order, const Task& task);
/// Makes the order's folder the working folder, from which its names start; the order as it is seen
/// from there.
Order enter_folder(const Order& order);

struct JobOutcome {
  bool began = false;
  int status = 0;
  std::string why;  // it did not begin
};

/// Runs them all, at most so many at a time. `shows`: progress is drawn (a line for each that runs,
/// on a terminal) or told in plain lines. What they print goes to output.txt in the guest's folder.
std::vector<JobOutcome> run_jobs(const Order& order, const std::vector<const Task*>& tasks,
                                 const JobLimits& limits, const std::string& verb, bool shows,
                                 const TaskWork& work);

}  // namespace jh::cli

#include "cli/batch_task.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <ctime>
#include <filesystem>
#include <iostream>
#include <system_error>
#include <thread>

#include "cli/change_files.h"
#include "cli/commands.h"
#include "cli/session.h"
#include "core/base/descriptor.h"
#include "core/base/shell_word.h"

namespace jh::cli {
namespace {

namespace files = std::filesystem;

// Held for as long as somebody is at work on a guest, on this machine or another with the same
// folder.
class TaskLock {
 public:
  explicit TaskLock(const std::string& folder) {
    make_results_folder(folder);
    const std::string path = (files::path(folder) / "lock").string();
    lock_ = Descriptor(path, O_RDWR | O_CREAT, 0644);
    if (!lock_.is_open()) io_failed("the guest's lock cannot be made", path);
    if (::flock(*lock_, LOCK_EX | LOCK_NB) == 0) return;
    // One that was killed may still be dying; one that is at work will be longer. Of many guests
    // that somebody else is at work on not each is waited for.
    std::cerr << "waiting for another run that is at work on this guest, or ending\n" << std::flush;
    static const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(10);
    while (::flock(*lock_, LOCK_EX | LOCK_NB) != 0) {
      if (errno != EWOULDBLOCK && errno != EINTR)
        io_failed(fmt::format("the guest's lock cannot be taken: {}",
                              std::generic_category().message(errno)),
                  path, "see whether the filesystem of the results can lock files");
      if (std::chrono::steady_clock::now() > until)
        refuse("another run is at work on this guest", path, "wait until it is done");
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
  }

 private:
  Descriptor lock_;
};

std::string machine_name() {
  std::array<char, 256> name{};
  return ::gethostname(name.data(), name.size() - 1) == 0 ? name.data() : "";
}

std::uint64_t peak_memory() {
  rusage usage{};
  ::getrusage(RUSAGE_SELF, &usage);
  return static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
}

bool is_there(const std::string& file) {
  std::error_code error;
  return files::exists(file, error) && files::file_size(file, error) != 0 && !error;
}

bool all_there(const std::vector<std::string>& names) {
  return !names.empty() && std::all_of(names.begin(), names.end(), is_there);
}

// What they take on the host; 0 where it cannot be said.
std::uint64_t on_host(const std::vector<std::string>& images) {
  try {
    FileHost host;
    return allocated_on_host(all_files(host, images));
  } catch (const Error&) {
    return 0;
  }
}

int run_command(CommandRun& run, const Task& task, const Arguments& more) {
  Arguments arguments = task.arguments;
  arguments.insert(arguments.end(), more.begin(), more.end());
  const Command* command = find_command(run.record.command);
  ensure(command != nullptr, "an order names commands that there are");
  return run.finish([&] { return command->run(run, arguments); });
}

Arguments yes_for(const std::string& change) {
  if (change == "grow" || change == "shrink" || change == "compact") return {"--yes"};
  return {};
}

bool has_dry_run(const Task& task) {
  if (task.change == "recast") return !task.made.empty();
  return task.change == "grow" || task.change == "shrink" || task.change == "compact";
}

// Of all disks together.
std::uint64_t disk_size(const Plan& plan, Bytes DiskChange::*which) {
  std::uint64_t sum = 0;
  for (const DiskChange& disk : plan.disks) sum += (disk.*which).value();
  return sum;
}

class Performance {
 public:
  Performance(const Order& order, const Task& task, int pipe)
      : order_(order), task_(task), pipe_(pipe) {}

  int run() {
    const TaskLock lock(task_folder(order_, task_));
    const std::optional<TaskState> old = read_state(order_, task_);
    const bool same = old && is_of(*old, task_);
    if (same && old->kind == TaskState::Kind::done) return 0;
    if (old) state_ = *old;
    state_.name = task_.name;
    state_.change = task_.change;
    state_.machine = machine_name();
    if (old && old->kind == TaskState::Kind::begun) {
      if (const int status = recover_interrupted(); status != 0) return status;
      if (same) {
        switch (where_it_stands()) {
          case RunState::after:
            return recognised();
          case RunState::neither:
            return stays_begun(
                {Status::refused,
                 "the guest is neither as the order found it nor as it was to become",
                 task_folder(order_, task_),
                 "look at it (juneheath survey " + shell_words(task_.images) +
                     "); to begin anew, remove task.json there"});
          case RunState::before:
            break;
        }
      }
    }
    return begin();
  }

 private:
  // A change that was cut off is finished or dropped: its ledger decides.
  int recover_interrupted() {
    Arguments images;
    for (const auto* list : {&task_.images, &task_.added, &task_.made})
      for (const std::string& file : *list)
        if (list == &task_.images || files::exists(file)) images.push_back(file);
    CommandRun recover("recover", images);
    const int status =
        recover.finish([&] { return find_command("recover")->run(recover, images); });
    return status == 0 ? 0 : stays_begun(*recover.record.error);
  }

  RunState where_it_stands() const {
    if (!task_.made.empty()) return all_there(task_.made) ? RunState::after : RunState::before;
    if (!task_.added.empty()) return all_there(task_.added) ? RunState::after : RunState::before;
    if (state_.goals.empty()) return RunState::before;  // what changes no size can be done again
    Parsed parsed;
    parsed.images = task_.images;
    return run_state(state_.goals, layer_sizes(*open_session(parsed, task_.images).guest));
  }

  int recognised() {
    // The run that did it had no time for its report.
    CommandRun survey("survey", task_.images);
    survey.set_replaces_report();
    Arguments arguments = task_.images;
    arguments.insert(arguments.end(), {"--quiet", "--report", task_folder(order_, task_)});
    survey.finish([&] { return find_command("survey")->run(survey, arguments); });
    state_.kind = TaskState::Kind::done;
    state_.status = 0;
    state_.message = "found to be done; the run that did it was cut off";
    note_after();
    write_state(order_, task_, state_);
    return 0;
  }

  int begin() {
    const auto began = std::chrono::steady_clock::now();
    state_.kind = TaskState::Kind::begun;
    state_.arguments = task_.arguments;
    state_.goals.clear();
    state_.started = std::time(nullptr);
    state_.message = state_.where = state_.next = "";
    ++state_.runs;
    state_.host_before = on_host(task_.images);
    write_state(order_, task_, state_);
    CommandRun run(task_.change, task_.arguments);
    // Durable before anything is written: by it a later run tells what was done.
    run.set_before_change([this](const Plan& plan) {
      state_.goals = goals_of(plan);
      state_.disk_before = disk_size(plan, &DiskChange::from);
      write_state(order_, task_, state_);
    });
    run.set_progress_pipe(pipe_);
    run.set_replaces_report();
    Arguments more = yes_for(task_.change);
    more.insert(more.end(), {"--report", task_folder(order_, task_)});
    const int status = run_command(run, task_, more);
    state_.seconds =
        std::chrono::duration<double>(std::chrono::steady_clock::now() - began).count();
    if (run.record.error) return end(*run.record.error);
    state_.status = status;
    // What is done is not done again, whatever became of its report.
    const bool done = status == 0 || (run.record.changed && status == static_cast<int>(Status::io));
    state_.kind = done ? TaskState::Kind::done : TaskState::Kind::failed;
    if (done && status != 0) state_.message = "done; its report could not be written";
    if (status == static_cast<int>(Status::damaged)) state_.message = "damage was found";
    if (run.record.plan) {
      state_.disk_before = disk_size(*run.record.plan, &DiskChange::from);
      state_.disk_after = disk_size(*run.record.plan, &DiskChange::to);
    }
    note_after();
    write_state(order_, task_, state_);
    return status;
  }

  void note_after() {
    state_.peak = peak_memory();
    state_.host_after = on_host(task_.made.empty() ? task_.images : task_.made);
    try {
      Parsed parsed;
      const auto& images = task_.made.empty() ? task_.images : task_.made;
      const Session now = open_session(parsed, images);
      std::uint64_t sum = 0;
      for (const Disk& disk : now.guest->disks()) sum += disk.size().value();
      state_.disk_after = sum;
      if (state_.disk_before == 0) state_.disk_before = sum;
    } catch (const Error&) {
      return;  // what could not be opened was said already
    }
  }

  // What became of the run that was cut off is not known yet: its goals count until it is, or the
  // next run would add the same once more.
  int stays_begun(const Error& error) { return end(error.with_outcome(Outcome::unfinished)); }

  int end(const Error& error) {
    state_.status = static_cast<int>(error.status());
    const bool refused = error.status() == Status::refused || error.status() == Status::usage ||
                         error.status() == Status::unsupported;
    state_.kind = error.outcome() == Outcome::unfinished ? TaskState::Kind::begun
                  : error.outcome() == Outcome::done     ? TaskState::Kind::done
                  : refused                              ? TaskState::Kind::refused
                                                         : TaskState::Kind::failed;
    state_.message = error.what();
    state_.where = error.where();
    state_.next = text_of(error.next());
    state_.peak = peak_memory();
    write_state(order_, task_, state_);
    return state_.status;
  }

  const Order& order_;
  const Task& task_;
  int pipe_;
  TaskState state_;
};

std::string words_for(const Plan& plan) {
  std::string words =
      fmt::format("{} step{}", plan.steps.size(), plan.steps.size() == 1 ? "" : "s");
  if (!plan.target.empty()) words += ", " + plan.target;
  return words;
}

// Of what changes no size of the disk.
std::string other_words(const Task& task, const RunRecord& record) {
  if (task.change == "recast") return "becomes " + task.made.front();
  if (task.change != "compact") return "is looked at, layer by layer";
  std::uint64_t bytes = 0;
  for (const Evidence& source : record.figures)
    if (!source.what.starts_with("moved")) bytes += source.count;
  return bytes == 0 ? "nothing to give back" : "gives back " + human(Bytes(bytes));
}

}  // namespace

int plan_task(const Order& order, const Task& task, int progress_pipe) {
  const TaskLock lock(task_folder(order, task));
  TaskPlan plan;
  CommandRun run(has_dry_run(task) ? task.change : "survey", task.arguments);
  run.set_progress_pipe(progress_pipe);
  if (has_dry_run(task)) {
    plan.status = run_command(run, task, {"--dry-run", "--quiet"});
  } else {
    const Arguments arguments = task.images;
    plan.status = run.finish([&] {
      Parsed parsed;
      open_session(parsed, arguments);
      return 0;
    });
  }
  if (run.record.error) {
    plan.message = run.record.error->what();
    plan.where = run.record.error->where();
    plan.next = text_of(run.record.error->next());
  } else if (run.record.plan) {
    plan.words = words_for(*run.record.plan);
    plan.disk_before = disk_size(*run.record.plan, &DiskChange::from);
    plan.disk_after = disk_size(*run.record.plan, &DiskChange::to);
  }
  if (plan.status == 0 && plan.words.empty()) plan.words = other_words(task, run.record);
  write_plan(order, task, plan);
  return plan.status;
}

int perform_task(const Order& order, const Task& task, int progress_pipe) {
  return Performance(order, task, progress_pipe).run();
}

}  // namespace jh::cli

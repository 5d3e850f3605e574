#include "cli/batch_slurm.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <map>
#include <sstream>
#include <thread>

#include "cli/batch_jobs.h"
#include "cli/interrupt.h"
#include "cli/terminal.h"
#include "cli/tool.h"
#include "core/base/shell_word.h"
#include "core/order/state.h"
#include "core/report/output_file.h"

namespace jh::cli {
namespace {

namespace files = std::filesystem;
using namespace std::chrono_literals;

constexpr const char* how_to_get_it =
    "install Slurm's commands here (Debian: slurm-client), or run the order without --on";

class SlurmRun {
 public:
  SlurmRun(const Order& order, const std::vector<const Task*>& tasks, std::string program,
           bool shows)
      : order_(order),
        tasks_(tasks),
        program_(order.slurm_program.empty() ? std::move(program) : order.slurm_program),
        shows_(shows),
        folder_(files::absolute(order.report) / "slurm") {}

  void run() {
    make_results_folder(folder_.string());
    jobs_ = known_jobs();
    if (in_queue().empty()) {
      submit();
    } else if (shows_) {
      std::cout << fmt::format("  This order is in the queue already: job {}\n", joined());
    }
    wait();
  }

 private:
  struct InQueue {
    std::size_t waiting = 0;
    std::size_t running = 0;
    bool empty() const { return waiting + running == 0; }
  };

  std::string joined() const {
    std::string text;
    for (const std::string& job : jobs_) text += (text.empty() ? "" : ",") + job;
    return text;
  }

  std::vector<std::string> known_jobs() const {
    std::vector<std::string> jobs;
    std::ifstream in(folder_ / "jobs.txt");
    for (std::string job; in >> job;) jobs.push_back(job);
    return jobs;
  }

  // One array for each of the host's filesystems: how many of its tasks run at a time is the
  // scheduler's to keep.
  void submit() {
    std::map<dev_t, std::vector<const Task*>> by_storage;
    for (const Task* task : tasks_) by_storage[storage_of(order_, *task)].push_back(task);
    std::size_t most = order_.jobs;
    if (order_.jobs_per_storage != 0)
      most = most == 0 ? order_.jobs_per_storage : std::min(most, order_.jobs_per_storage);
    jobs_.clear();
    std::size_t number = 0;
    for (const auto& [storage, tasks] : by_storage) jobs_.push_back(submit(tasks, most, ++number));
    std::string list;
    for (const std::string& job : jobs_) list += job + "\n";
    write_output((folder_ / "jobs.txt").string(), list);
    if (shows_)
      std::cout << fmt::format("  {} guest{} submitted: job {}\n", tasks_.size(),
                               tasks_.size() == 1 ? "" : "s", joined());
  }

  std::string submit(const std::vector<const Task*>& tasks, std::size_t most, std::size_t number) {
    std::string names;
    for (const Task* task : tasks) names += task->name + "\n";
    const files::path list = folder_ / fmt::format("guests-{}.txt", number);
    write_output(list.string(), names);
    std::string script = "#!/bin/sh\n# Written for one run of a work order; a task is one guest.\n";
    if (order_.deadline)
      script += fmt::format("[ \"$(date +%s)\" -lt {} ] || exit 3\n", *order_.deadline);
    script += fmt::format(
        "guest=$(sed -n \"${{SLURM_ARRAY_TASK_ID}}p\" {})\nexec {} batch {} --only \"$guest\"\n",
        shell_word(list.string()), shell_word(program_),
        shell_word(files::absolute(order_.path).string()));
    const files::path path = folder_ / fmt::format("task-{}.sh", number);
    write_output(path.string(), script);

    std::vector<std::string> command{
        "sbatch",
        "--parsable",
        "--requeue",
        "--open-mode=append",
        fmt::format("--array=1-{}{}", tasks.size(), most == 0 ? "" : fmt::format("%{}", most)),
        "--job-name=juneheath",
        "--chdir=" + files::absolute(order_.folder).lexically_normal().string(),
        "--output=" + (folder_ / "%A_%a.txt").string()};
    if (order_.memory && order_.jobs != 0)
      command.push_back(fmt::format("--mem={}M", *order_.memory / order_.jobs >> 20));
    command.insert(command.end(), order_.slurm_options.begin(), order_.slurm_options.end());
    command.push_back(path.string());
    const ToolOutput said = run_tool(command, how_to_get_it);
    if (said.status != 0)
      refuse("the scheduler does not take the order: " + first_line(said.err), "sbatch",
             "look at [slurm] options in the order, and at the cluster (sinfo)");
    // "17" or "17;cluster"
    return first_line(said.out).substr(0, first_line(said.out).find(';'));
  }

  static std::string first_line(const std::string& text) { return text.substr(0, text.find('\n')); }

  InQueue in_queue() const {
    InQueue queue;
    if (jobs_.empty()) return queue;
    const ToolOutput said = run_tool(
        {"squeue", "--noheader", "--array", "--jobs=" + joined(), "--format=%T"}, how_to_get_it);
    if (said.status != 0) {
      // A job that has ended long ago is not known any more.
      if (said.err.find("nvalid job id") != std::string::npos) return queue;
      io_failed("the scheduler does not answer: " + first_line(said.err), "squeue",
                "the jobs go on; run the order again to see what became of them");
    }
    std::istringstream lines(said.out);
    for (std::string state; lines >> state;) ++(state == "PENDING" ? queue.waiting : queue.running);
    return queue;
  }

  std::size_t ended() const {
    return static_cast<std::size_t>(
        std::count_if(tasks_.begin(), tasks_.end(), [&](const Task* task) {
          const auto state = read_state(order_, *task);
          return state && is_of(*state, *task) && state->kind != TaskState::Kind::begun;
        }));
  }

  void wait() {
    note_interrupts(Waits::end);
    const bool draws = shows_ && ::isatty(STDERR_FILENO) == 1;
    std::string told;
    while (true) {
      const InQueue queue = in_queue();
      if (shows_) {
        const std::string line = fmt::format("{} of {} ended, {} running, {} waiting", ended(),
                                             tasks_.size(), queue.running, queue.waiting);
        if (draws)
          std::cerr << "\r\033[K" << line << std::flush;
        else if (line != told)
          std::cerr << line << "\n";
        told = line;
      }
      if (queue.empty()) break;
      if (was_interrupted(/*reset=*/true)) {
        if (draws) std::cerr << "\n";
        throw Error(Status::refused, "waiting was stopped; the jobs go on", "job " + joined(),
                    "run the order again to wait for them, or end them: scancel " + joined())
            .with_outcome(Outcome::sound);
      }
      std::this_thread::sleep_for(1s);
    }
    if (draws) std::cerr << "\r\033[K" << std::flush;
  }

  const Order& order_;
  const std::vector<const Task*>& tasks_;
  std::string program_;
  bool shows_;
  files::path folder_;
  std::vector<std::string> jobs_;
};

}  // namespace

void run_on_slurm(const Order& order, const std::vector<const Task*>& tasks,
                  const std::string& program, bool shows) {
  SlurmRun(order, tasks, program, shows).run();
}

}  // namespace jh::cli

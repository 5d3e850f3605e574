#include "cli/batch_jobs.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <ctime>
#include <filesystem>
#include <iostream>
#include <sstream>

#include "cli/interrupt.h"
#include "cli/terminal.h"

namespace jh::cli {
namespace {

namespace files = std::filesystem;
using Clock = std::chrono::steady_clock;
using namespace std::chrono_literals;

// What one guest takes at most by our own measurements, with room to spare.
constexpr std::uint64_t memory_of_a_job = 128ULL << 20;

struct Job {
  std::size_t index = 0;
  const Task* task = nullptr;
  dev_t storage = 0;
  pid_t process = -1;
  int pipe = -1;
  std::string unread;
  ProgressState progress;
  Clock::time_point began;
  Clock::time_point told;
};

// "done total seconds what", as the other end writes it.
void take_line(const std::string& line, ProgressState& progress) {
  std::istringstream words(line);
  ProgressState fresh;
  if (!(words >> fresh.done >> fresh.total >> fresh.seconds)) return;
  std::getline(words >> std::ws, fresh.what);
  progress = fresh;
}

class Jobs {
 public:
  Jobs(const Order& order, const std::vector<const Task*>& tasks, const JobLimits& limits,
       std::string verb, bool shows, const TaskWork& work)
      : order_(order),
        tasks_(tasks),
        limits_(limits),
        verb_(std::move(verb)),
        shows_(shows),
        draws_(shows && ::isatty(STDERR_FILENO) == 1),
        work_(work),
        outcomes_(tasks.size()) {
    slots_ = std::max<std::size_t>(limits.jobs, 1);
    if (limits.memory)
      slots_ = std::min<std::size_t>(slots_,
                                     std::max<std::uint64_t>(*limits.memory / memory_of_a_job, 1));
    for (std::size_t i = 0; i < tasks.size(); ++i) waiting_.push_back(i);
  }

  std::vector<JobOutcome> run() {
    note_interrupts(Waits::end);
    while (true) {
      begin_some();
      if (running_.empty()) break;
      listen();
      reap();
      draw();
    }
    wipe();
    obey_interrupts();
    return std::move(outcomes_);
  }

 private:
  void begin_some() {
    std::string why;
    if (was_interrupted()) why = "stopped before its turn";
    if (limits_.deadline && std::time(nullptr) >= *limits_.deadline)
      why = "the deadline has passed";
    if (limits_.stop_after_failure && failed_) why = "a guest before it failed";
    if (!why.empty()) {
      for (const std::size_t index : waiting_) outcomes_[index].why = why;
      waiting_.clear();
      return;
    }
    for (auto next = waiting_.begin(); next != waiting_.end() && running_.size() < slots_;) {
      const dev_t storage = storage_of(order_, *tasks_[*next]);
      if (limits_.per_storage != 0 && busy_on(storage) >= limits_.per_storage) {
        ++next;
        continue;
      }
      begin(*next, storage);
      next = waiting_.erase(next);
    }
  }

  std::size_t busy_on(dev_t storage) const {
    return static_cast<std::size_t>(std::count_if(
        running_.begin(), running_.end(), [&](const Job& job) { return job.storage == storage; }));
  }

  void begin(std::size_t index, dev_t storage) {
    const Task& task = *tasks_[index];
    std::array<int, 2> ends{};
    if (::pipe2(ends.data(), O_CLOEXEC) != 0) io_failed("a job cannot be begun: no pipe");
    std::cout.flush();
    std::cerr.flush();
    const pid_t me = ::getpid();
    const pid_t process = ::fork();
    if (process < 0) {
      ::close(ends[0]);
      ::close(ends[1]);
      io_failed("a job cannot be begun: no process", task.name);
    }
    if (process == 0) {
      // A guest's process ends with its order, as a cut that `recover` finishes or rolls back: the
      // next run is to find nobody at work.
      ::prctl(PR_SET_PDEATHSIG, SIGKILL);
      if (::getppid() != me) ::_exit(static_cast<int>(Status::internal));
      ::close(ends[0]);
      for (const Job& job : running_) ::close(job.pipe);
      ::_exit(in_process(task, ends[1]));
    }
    ::close(ends[1]);
    Job job;
    job.index = index;
    job.task = &task;
    job.storage = storage;
    job.process = process;
    job.pipe = ends[0];
    job.began = job.told = Clock::now();
    outcomes_[index].began = true;
    running_.push_back(std::move(job));
  }

  int in_process(const Task& task, int pipe) const {
    obey_interrupts();
    if (limits_.memory) {
      const rlimit most{*limits_.memory / slots_, *limits_.memory / slots_};
      ::setrlimit(RLIMIT_DATA, &most);
    }
    try {
      const std::string folder = task_folder(order_, task);
      make_results_folder(folder);
      const std::string output = (files::absolute(folder) / "output.txt").string();
      const int file = ::open(output.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0644);
      if (file < 0) io_failed("the guest's output cannot be written", output);
      const int nothing = ::open("/dev/null", O_RDONLY | O_CLOEXEC);
      ::dup2(nothing, STDIN_FILENO);
      ::dup2(file, STDOUT_FILENO);
      ::dup2(file, STDERR_FILENO);
      const int status = work_(enter_folder(order_), task, pipe);
      std::cout.flush();
      return status;
    } catch (const Error& error) {
      print_error(error);
      std::cerr.flush();
      return static_cast<int>(error.status());
    } catch (const std::exception& error) {
      std::cerr << "juneheath: internal error: " << error.what() << std::endl;
      return static_cast<int>(Status::internal);
    }
  }

  void listen() {
    std::vector<pollfd> ends;
    for (const Job& job : running_) ends.push_back({job.pipe, POLLIN, 0});
    if (::poll(ends.data(), ends.size(), 200) <= 0) return;
    for (std::size_t i = 0; i < ends.size(); ++i) {
      if ((ends[i].revents & (POLLIN | POLLHUP)) == 0) continue;
      std::array<char, 4096> bytes{};
      const ssize_t count = ::read(ends[i].fd, bytes.data(), bytes.size());
      if (count <= 0) continue;
      Job& job = running_[i];
      job.unread.append(bytes.data(), static_cast<std::size_t>(count));
      for (std::size_t end; (end = job.unread.find('\n')) != std::string::npos;) {
        take_line(job.unread.substr(0, end), job.progress);
        job.unread.erase(0, end + 1);
      }
    }
  }

  void reap() {
    for (auto job = running_.begin(); job != running_.end();) {
      int status = 0;
      if (::waitpid(job->process, &status, WNOHANG) != job->process) {
        ++job;
        continue;
      }
      JobOutcome& outcome = outcomes_[job->index];
      outcome.status = WIFEXITED(status) ? WEXITSTATUS(status)
                                         : 128 + (WIFSIGNALED(status) ? WTERMSIG(status) : 0);
      failed_ |= outcome.status != 0;
      ++done_;
      say_end(*job, outcome);
      ::close(job->pipe);
      job = running_.erase(job);
    }
  }

  void say_end(const Job& job, const JobOutcome& outcome) {
    if (!shows_ || draws_) return;
    std::cerr << fmt::format("{} of {}: {} {}, {:.1f} s", done_, tasks_.size(), job.task->name,
                             outcome.status == 0
                                 ? verb_
                                 : fmt::format("ended with status {}", outcome.status),
                             std::chrono::duration<double>(Clock::now() - job.began).count())
              << "\n"
              << std::flush;
  }

  std::string line_of(const Job& job) const {
    std::string text = job.progress.what.empty() ? "at work" : progress_text(job.progress);
    return fmt::format("  {}: {}", job.task->name, text);
  }

  void draw() {
    if (!shows_) return;
    const auto now = Clock::now();
    if (!draws_) {
      for (Job& job : running_)
        if (now - job.told >= 30s) {
          job.told = now;
          std::cerr << printable(line_of(job)) << "\n" << std::flush;
        }
      return;
    }
    if (now - drawn_ < 200ms) return;
    drawn_ = now;
    wipe();
    std::cerr << fmt::format("{} of {} {}, {} at work\n", done_, tasks_.size(), verb_,
                             running_.size());
    const std::size_t width = drawing_width();
    for (const Job& job : running_) {
      std::string line = printable(line_of(job));
      if (columns_of(line) >= width) line.resize(width - 1);
      std::cerr << line << "\n";
    }
    std::cerr << std::flush;
    lines_ = running_.size() + 1;
  }

  void wipe() {
    for (; lines_ != 0; --lines_) std::cerr << "\033[A\033[2K";
    std::cerr << std::flush;
  }

  const Order& order_;
  const std::vector<const Task*>& tasks_;
  JobLimits limits_;
  std::string verb_;
  bool shows_;
  bool draws_;
  const TaskWork& work_;
  std::size_t slots_ = 1;
  std::vector<std::size_t> waiting_;
  std::vector<Job> running_;
  std::vector<JobOutcome> outcomes_;
  std::size_t done_ = 0;
  bool failed_ = false;
  Clock::time_point drawn_;
  std::size_t lines_ = 0;
};

}  // namespace

dev_t storage_of(const Order& order, const Task& task) {
  const files::path folder = (files::path(order.folder) / task.images.front()).parent_path();
  struct stat facts {};
  return ::stat(folder.empty() ? "." : folder.c_str(), &facts) == 0 ? facts.st_dev : 0;
}

Order enter_folder(const Order& order) {
  Order here = order;
  here.report = files::absolute(order.report).string();
  here.path = files::absolute(order.path).string();
  files::current_path(order.folder);
  here.folder = ".";
  return here;
}

JobLimits limits_of(const Order& order) {
  constexpr std::size_t usual_jobs = 2;
  return {order.jobs == 0 ? usual_jobs : order.jobs, order.jobs_per_storage, order.memory,
          order.deadline, order.after_failure == Order::AfterFailure::stop};
}

std::vector<JobOutcome> run_jobs(const Order& order, const std::vector<const Task*>& tasks,
                                 const JobLimits& limits, const std::string& verb, bool shows,
                                 const TaskWork& work) {
  return Jobs(order, tasks, limits, verb, shows, work).run();
}

}  // namespace jh::cli

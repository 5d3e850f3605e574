#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <iostream>

#include "cli/command_run.h"
#include "cli/interrupt.h"
#include "cli/terminal.h"
#include "core/base/sizes.h"
#include "core/base/stopped.h"

namespace jh::cli {
namespace {

using Clock = std::chrono::steady_clock;
using namespace std::chrono_literals;

/// What all ways of telling have in common: Ctrl-C, and how often something is said.
class ToldProgress : public Progress {
 public:
  ToldProgress(const CommandRun& run, Clock::duration first, Clock::duration every)
      : run_(run), first_(first), every_(every) {
    note_interrupts(Waits::go_on);
  }

  void begin(const std::string& what, std::uint64_t total) override {
    run_.log(what);
    what_ = what;
    total_ = total;
    started_ = told_ = Clock::now();
    advance(0);
  }

  void advance(std::uint64_t done) override {
    if (was_interrupted(/*reset=*/true)) throw Stopped();
    if (what_.empty()) return;  // between two pieces of work
    const auto now = Clock::now();
    if (now - started_ < first_ || now - told_ < every_) return;
    told_ = now;
    tell(done);
  }

  void end() override { what_.clear(); }

 protected:
  virtual void tell(std::uint64_t done) = 0;

  const std::string& what() const { return what_; }
  std::uint64_t total() const { return total_; }
  double seconds() const { return std::chrono::duration<double>(told_ - started_).count(); }

 private:
  const CommandRun& run_;
  Clock::duration first_;
  Clock::duration every_;
  std::string what_;
  std::uint64_t total_ = 0;
  Clock::time_point started_;
  Clock::time_point told_;
};

class NoProgress final : public ToldProgress {
 public:
  explicit NoProgress(const CommandRun& run) : ToldProgress(run, 24h, 24h) {}

 private:
  void tell(std::uint64_t) override {}
};

class LineProgress final : public ToldProgress {
 public:
  explicit LineProgress(const CommandRun& run) : ToldProgress(run, 1s, 200ms) {}
  ~LineProgress() override { wipe(); }
  void end() override {
    ToldProgress::end();
    wipe();
  }

 private:
  void tell(std::uint64_t done) override {
    std::cerr << "\r\033[K" << printable(progress_text({what(), done, total(), seconds()}))
              << std::flush;
    on_screen_ = true;
  }
  void wipe() {
    if (on_screen_) std::cerr << "\r\033[K" << std::flush;
    on_screen_ = false;
  }

  bool on_screen_ = false;
};

class PlainProgress final : public ToldProgress {
 public:
  explicit PlainProgress(const CommandRun& run) : ToldProgress(run, 10s, 10s) {}

 private:
  void tell(std::uint64_t done) override {
    std::cerr << printable(progress_text({what(), done, total(), seconds()})) << "\n" << std::flush;
  }
};

// "done total seconds what": the program that reads it draws them.
class PipeProgress final : public ToldProgress {
 public:
  explicit PipeProgress(const CommandRun& run)
      : ToldProgress(run, 0s, 250ms), descriptor_(run.progress_pipe()) {}

 private:
  void tell(std::uint64_t done) override {
    const std::string line =
        fmt::format("{} {} {:.3f} {}\n", done, total(), seconds(), printable(what()));
    // Nobody may be there to read it any more: the work goes on.
    if (::write(descriptor_, line.data(), line.size()) < 0) return;
  }

  int descriptor_;
};

}  // namespace

std::string progress_text(const ProgressState& state) {
  std::string line = state.what;
  if (state.total == 0) return line + fmt::format("  {:.0f} s", state.seconds);
  const auto total = static_cast<double>(state.total);
  const double rate = state.seconds > 0 ? static_cast<double>(state.done) / state.seconds : 0;
  line += fmt::format("  {:.0f}%  {}/s", 100.0 * static_cast<double>(state.done) / total,
                      human(Bytes(static_cast<std::uint64_t>(rate))));
  if (rate > 0)
    line +=
        fmt::format("  {:.0f} s left",
                    static_cast<double>(state.total - std::min(state.total, state.done)) / rate);
  return line;
}

std::unique_ptr<Progress> progress_of(const CommandRun& run) {
  if (run.progress_pipe() >= 0) return std::make_unique<PipeProgress>(run);
  if (!run.text()) return std::make_unique<NoProgress>(run);
  if (::isatty(STDERR_FILENO) == 1) return std::make_unique<LineProgress>(run);
  return std::make_unique<PlainProgress>(run);
}

}  // namespace jh::cli

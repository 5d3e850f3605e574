// Run: one command on its way: how it was called, what it has to say, and who is told of it.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/guest/guest.h"
#include "core/report/record.h"

namespace jh::cli {

using Arguments = std::vector<std::string>;

class RunLog;

class CommandRun {
 public:
  CommandRun(std::string command, const Arguments& arguments);
  CommandRun(const CommandRun&) = delete;
  CommandRun& operator=(const CommandRun&) = delete;
  ~CommandRun();

  /// Told by parse(), as soon as it is known.
  void set_json(bool json) { json_ = json; }
  void set_quiet(bool quiet) { quiet_ = quiet; }
  /// Makes the folder at once: that it cannot be made is found out before anything is done.
  void set_report(const std::string& folder);
  /// An earlier try's report may be replaced: of a guest's task, which is tried again.
  void set_replaces_report() { replaces_report_ = true; }
  void set_log(const std::string& path);
  /// Progress goes to this descriptor, as lines for the program that started this run.
  void set_progress_pipe(int descriptor) { progress_pipe_ = descriptor; }
  /// Who wants to know what will be done once it is certain to be begun, before anything is
  /// written.
  using BeforeChange = std::function<void(const Plan&)>;
  void set_before_change(BeforeChange told) { before_change_ = std::move(told); }
  void before_change(const Plan& plan) const {
    if (before_change_) before_change_(plan);
  }

  /// Text for people is printed.
  bool text() const { return !json_ && !quiet_; }
  bool json() const { return json_; }
  bool quiet() const { return quiet_; }
  /// What is drawn, and what it takes to find it out, is wanted.
  bool reports() const { return !report_.empty(); }
  int progress_pipe() const { return progress_pipe_; }

  /// The guest as it was found, and as it is in the end.
  void record_before(const Guest& guest);
  void record_after(const Guest& guest);

  void log(const std::string& text) const;

  /// Runs the command; errors become a message (or JSON), a line in the log, a report, and an exit
  /// status.
  int finish(const std::function<int()>& body);

  RunRecord record;

 private:
  int status_of(const std::function<int()>& body);
  int report_error(const Error& error);

  bool json_ = false;
  bool quiet_ = false;
  std::string report_;
  bool replaces_report_ = false;
  std::unique_ptr<RunLog> log_;
  int progress_pipe_ = -1;
  BeforeChange before_change_;
};

/// Progress for people: on a terminal one line with rate and time left, otherwise a plain line
/// every ten seconds; for a program that started this one, lines on its pipe. Ctrl-C stops the work
/// at the next step.
std::unique_ptr<Progress> progress_of(const CommandRun& run);

}  // namespace jh::cli

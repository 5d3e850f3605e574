#include "cli/command_run.h"

#include <fmt/format.h>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>

#include <chrono>
#include <ctime>
#include <filesystem>
#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/terminal.h"
#include "core/base/shell_word.h"
#include "core/base/version.h"
#include "core/report/output_file.h"

namespace jh::cli {

/// Lines with a time, a level and the number of this process, at the end of a file.
class RunLog {
 public:
  explicit RunLog(const std::string& path) {
    try {
      logger_ = std::make_unique<spdlog::logger>(
          "juneheath", std::make_shared<spdlog::sinks::basic_file_sink_mt>(path));
    } catch (const spdlog::spdlog_ex& error) {
      io_failed(std::string("the log cannot be written: ") + error.what(), path,
                "name another file with --log");
    }
    logger_->set_pattern("%Y-%m-%dT%H:%M:%S.%e%z %P %l: %v");
    logger_->flush_on(spdlog::level::info);
  }
  void say(spdlog::level::level_enum level, const std::string& text) {
    logger_->log(level, printable(text));
  }

 private:
  std::unique_ptr<spdlog::logger> logger_;
};

CommandRun::CommandRun(std::string command, const Arguments& arguments) {
  record.command = std::move(command);
  record.words = {"juneheath"};
  record.typed = command_text;
  if (!record.command.empty()) record.words.push_back(record.command);
  record.words.insert(record.words.end(), arguments.begin(), arguments.end());
  record.version = core_version();
  std::error_code ignored;
  record.folder = std::filesystem::current_path(ignored).string();
  record.started = std::time(nullptr);
}

CommandRun::~CommandRun() = default;

void CommandRun::set_report(const std::string& folder) {
  failing_with(Outcome::unchanged, [&] {
    std::error_code error;
    if (!replaces_report_ &&
        std::filesystem::exists(std::filesystem::path(folder) / "report.json", error))
      refuse("the report's folder holds the report of another run", folder,
             "name another folder with --report, or move that one away");
    make_folder(folder, "the report's folder cannot be made", "name another folder with --report");
    const std::string probe = (std::filesystem::path(folder) / ".probe").string();
    write_output(probe, "");
    std::error_code ignored;
    std::filesystem::remove(probe, ignored);
  });
  report_ = folder;
}

void CommandRun::set_log(const std::string& path) {
  log_ = failing_with(Outcome::unchanged, [&] { return std::make_unique<RunLog>(path); });
  log(fmt::format("{} (version {})", shell_words(record.words), record.version));
}

void CommandRun::log(const std::string& text) const {
  if (log_) log_->say(spdlog::level::info, text);
}

void CommandRun::record_before(const Guest& guest) {
  if (!reports()) return;
  record.before = view_with_states(guest);
  record.sizes = layer_sizes(guest);
}

void CommandRun::record_after(const Guest& guest) {
  if (reports()) record.after = view_of(guest);
}

int CommandRun::report_error(const Error& error) {
  record.error = error;
  if (error.outcome() == Outcome::done) record.changed = true;
  if (log_) log_->say(spdlog::level::err, fmt::format("{} ({})", error.what(), error.where()));
  if (json_) print_json(record.command, {{"error", error_json(error, command_text)}});
  print_error(error);
  return static_cast<int>(error.status());
}

int CommandRun::status_of(const std::function<int()>& body) {
  try {
    const int status = body();
    if (json_ && !record.document.empty()) print_json(record.command, record.document);
    std::cout.flush();
    if (!std::cout)
      return report_error({Status::io, "the output cannot be written", "standard output",
                           "what the command did is done; check where its output goes"});
    return status;
  } catch (const Error& error) {
    return report_error(error);
  } catch (const std::bad_alloc&) {
    return report_error({Status::internal, "out of memory", {}, {}});
  } catch (const std::exception& error) {
    return report_error({Status::internal, error.what(), {}, "please report this as a bug"});
  }
}

int CommandRun::finish(const std::function<int()>& body) {
  const auto began = std::chrono::steady_clock::now();
  record.status = status_of(body);
  record.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - began).count();
  log(fmt::format("exit status {}, {}, after {:.2f} s", record.status, outcome_of(record),
                  record.seconds));
  if (report_.empty()) return record.status;
  try {
    write_report(record, report_);
  } catch (const std::exception& error) {
    const auto* known = dynamic_cast<const Error*>(&error);
    std::cerr << fmt::format("juneheath: the report is not complete: {}\n  where: {}\n",
                             printable(error.what()),
                             printable(known == nullptr ? report_ : known->where()));
    if (record.changed) std::cerr << "  The change itself is done.\n";
    // Whatever else it was, a change that is done is no refusal.
    if (record.status == 0 || record.changed) record.status = static_cast<int>(Status::io);
  }
  return record.status;
}

}  // namespace jh::cli

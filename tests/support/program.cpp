#include "support/program.h"

#include <fcntl.h>
#include <fmt/ranges.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <regex>
#include <stdexcept>

#include "support/test.h"

namespace jh::test {

Words operator+(Words first, const Words& then) {
  first.insert(first.end(), then.begin(), then.end());
  return first;
}

ProgramResult run(const Words& command, const std::map<std::string, std::string>& environment) {
  const TempFolder folder;
  const std::string out = folder / "out";
  const std::string err = folder / "err";
  const pid_t child = ::fork();
  if (child < 0) throw std::runtime_error("cannot start a process");
  if (child == 0) {
    const auto redirect = [](const std::string& path, int to, int flags) {
      const int fd = ::open(path.c_str(), flags, 0600);
      if (fd < 0 || ::dup2(fd, to) < 0) ::_exit(126);
    };
    redirect("/dev/null", 0, O_RDONLY);
    redirect(out, 1, O_WRONLY | O_CREAT | O_TRUNC);
    redirect(err, 2, O_WRONLY | O_CREAT | O_TRUNC);
    for (const auto& [name, value] : environment) ::setenv(name.c_str(), value.c_str(), 1);
    std::vector<char*> words;
    for (const std::string& word : command) words.push_back(const_cast<char*>(word.c_str()));
    words.push_back(nullptr);
    ::execvp(words[0], words.data());
    ::_exit(127);
  }
  int status = 0;
  rusage usage{};
  ::wait4(child, &status, 0, &usage);
  ProgramResult outcome;
  outcome.peak_mib = usage.ru_maxrss / 1024;
  outcome.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  outcome.out = read_file(out);
  outcome.err = read_file(err);
  return outcome;
}

namespace {

// Long runs use a program of their own, so that the tree may be built meanwhile.
std::string our_program() {
  const char* other = std::getenv("JUNEHEATH_PROGRAM");
  return other != nullptr ? other : JUNEHEATH_PROGRAM;
}

// With JUNEHEATH_PASTE every command in whatever the program says is pasted into a shell, as a dry
// run where it would write: it may be refused for what is there, but never for how it is written.
void paste_commands_of(const ProgramResult& said) {
  static std::set<std::string> pasted;
  const std::string text = said.err + (said.out.starts_with("{") ? "" : said.out);
  for (const CommandInText& command : commands_in(text)) {
    std::string line = std::regex_replace(command.line, std::regex("[.:]$"), "");
    // What recovers an image is not to be done in between; a line of how a command is written in
    // general is none.
    if (command.verb == "recover" || line.find("--live") != std::string::npos ||
        line.find_first_of("[|") != std::string::npos || !pasted.insert(line).second)
      continue;
    if (command.may_write() && line.find("--dry-run") == std::string::npos) line += " --dry-run";
    const ProgramResult outcome = paste(line);
    EXPECT_TRUE(outcome.status != 2 || outcome.said("say which")) << line << "\n" << outcome.err;
    EXPECT_LT(outcome.status, 126) << line << "\n" << outcome.err;
  }
}

}  // namespace

nlohmann::json survey_of(const Words& images) {
  return nlohmann::json::parse(juneheath(Words{"survey", "--json"} + images).out);
}

std::string in_form(const std::string& raw, const std::string& form) {
  if (form == "raw" || form == "img") return raw;
  const std::string image = files::path(raw).parent_path() / ("guest." + form);
  succeeds({"recast", raw, image, "--form", form, "--quiet"});
  return image;
}

std::string recast_raw(const std::string& image, const std::string& to) {
  files::remove(to);
  expect_status(0, {"recast", image, to, "--form", "raw", "--store", "sparse", "--quiet"});
  return to;
}

std::vector<CommandInText> commands_in(const std::string& text) {
  static const std::regex command(
      R"(juneheath (grow|shrink|compact|recast|survey|audit|undo|recover)( [^\s();,]+)+)");
  std::vector<CommandInText> all;
  for (std::sregex_iterator found(text.begin(), text.end(), command), end; found != end; ++found)
    all.push_back({found->str(), (*found)[1]});
  return all;
}

ProgramResult paste(const std::string& line) {
  return run({"sh", "-c", std::regex_replace(line, std::regex("^juneheath"), our_program())});
}

ProgramResult juneheath(Words arguments, const std::map<std::string, std::string>& environment) {
  arguments.insert(arguments.begin(), our_program());
  const ProgramResult outcome = run(arguments, environment);
  if (std::getenv("JUNEHEATH_PASTE") != nullptr) paste_commands_of(outcome);
  return outcome;
}

namespace {

// What is not as it was expected; empty: all of it is.
std::string difference(const ProgramResult& outcome, int status, const Words& texts) {
  std::string all;
  if (outcome.status != status)
    all += fmt::format("it ended with {} and not with {}\n", outcome.status, status);
  for (const std::string& text : texts)
    if (!outcome.said(text)) all += fmt::format("it did not say: {}\n", text);
  return all;
}

// Of what is named and all that lies beside it; 0 for what is too large to be read each time.
std::map<std::string, std::uint32_t> digests_around(const Words& arguments) {
  std::set<files::path> folders;
  for (const std::string& each : arguments)
    if (files::is_regular_file(each)) folders.insert(files::absolute(each).parent_path());
  std::map<std::string, std::uint32_t> all;
  for (const files::path& folder : folders)
    for (const auto& entry : files::directory_iterator(folder))
      if (entry.is_regular_file())
        all[entry.path()] = allocated(entry.path()) < 1ULL << 30 ? file_digest(entry.path()) : 0;
  // What the program writes for its user.
  const auto log = std::find(arguments.begin(), arguments.end(), "--log");
  if (log != arguments.end()) all.erase(*std::next(log));
  return all;
}

void report(const std::source_location& here, const Words& arguments, const std::string& what,
            const ProgramResult& outcome) {
  if (what.empty()) return;
  ADD_FAILURE_AT(here.file_name(), static_cast<int>(here.line()))
      << "juneheath " << fmt::format("{}\n", fmt::join(arguments, " ")) << what << outcome.out
      << outcome.err;
}

}  // namespace

ProgramResult expect_status(int status, const Words& arguments, const Words& texts,
                            std::source_location here) {
  const bool refuses = status == 2 || status == 3 || status == 4 || status == 6;
  const auto before = digests_around(refuses ? arguments : Words{});
  ProgramResult outcome = juneheath(arguments);
  std::string what = difference(outcome, status, texts);
  if (refuses && digests_around(arguments) != before) what += "it has changed a file\n";
  report(here, arguments, what, outcome);
  return outcome;
}

ProgramResult expect_said(const Words& arguments, const Words& texts, std::source_location here) {
  ProgramResult outcome = juneheath(arguments);
  report(here, arguments, difference(outcome, outcome.status, texts), outcome);
  return outcome;
}

ProgramResult succeeds(const Words& arguments, const Words& texts, std::source_location here) {
  ProgramResult outcome = expect_status(0, arguments, texts, here);
  if (outcome.status != 0) throw std::runtime_error("the test cannot go on without it");
  return outcome;
}

}  // namespace jh::test

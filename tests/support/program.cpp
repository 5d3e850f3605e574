#include "support/program.h"

#include <fcntl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <stdexcept>

#include "support/samples.h"

namespace jh::test {

ProgramResult run(const std::vector<std::string>& command,
                  const std::map<std::string, std::string>& environment) {
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

ProgramResult juneheath(std::vector<std::string> arguments,
                        const std::map<std::string, std::string>& environment) {
  // Long runs use a program of their own, so that the tree may be built meanwhile.
  const char* other = std::getenv("JUNEHEATH_PROGRAM");
  arguments.insert(arguments.begin(), other != nullptr ? other : JUNEHEATH_PROGRAM);
  return run(arguments, environment);
}

}  // namespace jh::test

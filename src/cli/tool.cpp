#include "cli/tool.h"

#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstring>

#include "core/base/errors.h"

extern char** environ;  // NOLINT: POSIX says that it is declared so

namespace jh::cli {
namespace {

struct Pipe {
  Pipe() {
    if (::pipe2(ends.data(), O_CLOEXEC) != 0) io_failed("a program cannot be run: no pipe");
  }
  ~Pipe() {
    close(0);
    close(1);
  }
  Pipe(const Pipe&) = delete;
  Pipe& operator=(const Pipe&) = delete;
  void close(std::size_t end) {
    if (ends.at(end) >= 0) ::close(ends.at(end));
    ends.at(end) = -1;
  }
  std::array<int, 2> ends{-1, -1};
};

void read_both(Pipe& out, Pipe& err, ToolOutput& result) {
  bool open_out = true;
  bool open_err = true;
  while (open_out || open_err) {
    std::array<pollfd, 2> ends{
        {{open_out ? out.ends[0] : -1, POLLIN, 0}, {open_err ? err.ends[0] : -1, POLLIN, 0}}};
    if (::poll(ends.data(), ends.size(), -1) < 0 && errno != EINTR) break;
    for (std::size_t i = 0; i < 2; ++i) {
      if (ends.at(i).fd < 0 || ends.at(i).revents == 0) continue;
      std::array<char, 4096> bytes{};
      const ssize_t count = ::read(ends.at(i).fd, bytes.data(), bytes.size());
      if (count > 0)
        (i == 0 ? result.out : result.err).append(bytes.data(), static_cast<std::size_t>(count));
      else if (count == 0 || errno != EINTR)
        (i == 0 ? open_out : open_err) = false;
    }
  }
}

}  // namespace

ToolOutput run_tool(const std::vector<std::string>& command, const std::string& next) {
  Pipe out;
  Pipe err;
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  ::posix_spawn_file_actions_adddup2(&actions, out.ends[1], STDOUT_FILENO);
  ::posix_spawn_file_actions_adddup2(&actions, err.ends[1], STDERR_FILENO);
  std::vector<char*> words;
  std::vector<std::string> copies = command;
  for (std::string& word : copies) words.push_back(word.data());
  words.push_back(nullptr);
  pid_t process = -1;
  const int error =
      ::posix_spawnp(&process, words.front(), &actions, nullptr, words.data(), environ);
  ::posix_spawn_file_actions_destroy(&actions);
  if (error != 0)
    refuse(command.front() + " cannot be run: " + std::strerror(error), command.front(), next);
  out.close(1);
  err.close(1);
  ToolOutput result;
  read_both(out, err, result);
  int status = 0;
  while (::waitpid(process, &status, 0) < 0 && errno == EINTR) continue;
  result.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  return result;
}

}  // namespace jh::cli

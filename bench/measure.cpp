// measure COMMAND...: runs it, and prints seconds, bytes read, bytes written, and peak memory in
// KiB on one line of stderr's sister, file descriptor 3. Bytes are what went through read and write
// calls.
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstdio>
#include <fstream>
#include <string>

int main(int argc, char** argv) {
  if (argc < 2) return 2;
  const auto start = std::chrono::steady_clock::now();
  const pid_t child = ::fork();
  if (child == 0) {
    ::close(3);
    ::execvp(argv[1], argv + 1);
    ::_exit(127);
  }
  siginfo_t info{};
  // Left as a zombie for a moment, so that its counters can still be read.
  ::waitid(P_PID, static_cast<id_t>(child), &info, WEXITED | WNOWAIT);
  const double seconds =
      std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  unsigned long long read = 0;
  unsigned long long written = 0;
  std::ifstream io("/proc/" + std::to_string(child) + "/io");
  for (std::string name; io >> name;) {
    unsigned long long value = 0;
    io >> value;
    if (name == "rchar:") read = value;
    if (name == "wchar:") written = value;
  }
  int status = 0;
  rusage usage{};
  ::wait4(child, &status, 0, &usage);
  ::dprintf(3, "%.3f %llu %llu %ld\n", seconds, read, written, usage.ru_maxrss);
  return WIFEXITED(status) ? WEXITSTATUS(status) : 1;
}

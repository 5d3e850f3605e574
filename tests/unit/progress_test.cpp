// What is said of work that takes a while.
#include <unistd.h>

#include <chrono>
#include <csignal>
#include <thread>

#include "cli/command_run.h"
#include "cli/interrupt.h"
#include "cli/terminal.h"
#include "core/base/stopped.h"
#include "support/test.h"

namespace jh::cli {
namespace {

using test::mib;

TEST(ProgressText, HasShareRateAndTimeLeft) {
  EXPECT_EQ(progress_text({"copying", 25 * mib, 100 * mib, 5}), "copying  25%  5 MiB/s  15 s left");
  EXPECT_EQ(progress_text({"copying", 0, 100 * mib, 5}), "copying  0%  0 B/s");
  EXPECT_EQ(progress_text({"auditing", 3, 0, 7.2}), "auditing  7 s") << "nobody knows how much";
  EXPECT_EQ(progress_text({"copying", 200 * mib, 100 * mib, 5}),
            "copying  200%  40 MiB/s  0 s left");
}

// Whoever waits for a program by its pipe gets lines that can be read again.
TEST(Progress, GoesToThePipeOfWhoStartedIt) {
  std::array<int, 2> ends{};
  ASSERT_EQ(::pipe(ends.data()), 0);
  cli::CommandRun run("grow", {});
  run.set_progress_pipe(ends[1]);
  {
    const auto progress = progress_of(run);
    progress->begin("moving what lies in the way", 100);
    std::this_thread::sleep_for(std::chrono::milliseconds(300));
    progress->advance(40);
    progress->end();
  }
  std::array<char, 200> bytes{};
  const ssize_t count = ::read(ends[0], bytes.data(), bytes.size());
  ASSERT_GT(count, 0);
  const std::string text(bytes.data(), static_cast<std::size_t>(count));
  EXPECT_TRUE(text.starts_with("40 100 ")) << text;
  EXPECT_TRUE(text.ends_with("moving what lies in the way\n")) << text;
  ::close(ends[0]);
  ::close(ends[1]);
}

TEST(Progress, StopsAtTheNextStepWhenAsked) {
  cli::CommandRun run("grow", {});
  run.set_quiet(true);
  const auto progress = progress_of(run);
  progress->begin("moving", 100);
  ::raise(SIGINT);
  EXPECT_THROW(progress->advance(1), Stopped);
  progress->advance(2);  // once for each wish
  obey_interrupts();
}

}  // namespace
}  // namespace jh::cli

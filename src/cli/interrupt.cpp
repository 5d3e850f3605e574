#include "cli/interrupt.h"

#include <csignal>
#include <initializer_list>

namespace jh::cli {
namespace {

constexpr std::initializer_list<int> wishes{SIGINT, SIGTERM, SIGHUP};

// The one thing that a handler may write to.
volatile std::sig_atomic_t interrupted = 0;

void on_interrupt(int) { interrupted = 1; }

void handle(void (*handler)(int), int flags) {
  for (const int number : wishes) {
    struct sigaction old {};
    ::sigaction(number, nullptr, &old);
    if (number == SIGHUP && old.sa_handler == SIG_IGN) continue;
    struct sigaction action {};
    action.sa_handler = handler;
    action.sa_flags = flags;
    ::sigaction(number, &action, nullptr);
  }
}

}  // namespace

void note_interrupts(Waits waits) { handle(on_interrupt, waits == Waits::go_on ? SA_RESTART : 0); }

bool was_interrupted(bool reset) {
  const bool was = interrupted != 0;
  if (was && reset) interrupted = 0;
  return was;
}

void obey_interrupts() { handle(SIG_DFL, 0); }

}  // namespace jh::cli

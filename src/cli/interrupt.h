// Ctrl-C and its like, noticed and not obeyed at once.
#pragma once

namespace jh::cli {

/// What becomes of a call that waits when one comes.
enum class Waits { go_on, end };

/// From here on a wish to stop is only noted. What was told to outlive its terminal does.
void note_interrupts(Waits waits);
/// Whether one came since the last time it was asked with `reset`.
bool was_interrupted(bool reset = false);
/// As before: they end the program.
void obey_interrupts();

}  // namespace jh::cli

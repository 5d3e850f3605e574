// A disk that keeps only what was flushed: for the preloaded library of the fault tests.
#pragma once

namespace jh::test {

/// At the start, by whoever will call lose_unflushed() at the end.
void begin_to_remember();
/// Before a call that changes the file behind `fd`.
void file_changes(int fd);
/// After `fd`, a file or a folder, was flushed.
void was_flushed(int fd);
/// After a name was made; before one is replaced or removed.
void name_made(const char* path);
void name_replaced(const char* from, const char* to);
void name_removed(const char* path);
/// The power is gone: what was not flushed is as it was.
void lose_unflushed();

}  // namespace jh::test

// The log of a VHDX image: writes that were decided but may not have reached their places.
#pragma once

#include <vector>

#include "core/container/vhdx/format.h"
#include "core/store/store.h"

namespace jh::vhdx {

struct LogWrite {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
  bool zero = false;
  Buffer data;  // empty when `zero`
};

struct LogReplay {
  std::vector<LogWrite> writes;  // in order
  std::uint64_t file_size = 0;   // that the file must have afterwards, at least
};

/// What the newest complete sequence of entries says. Throws damaged when the header names a log
/// that holds none, or the file is shorter than the log was told.
LogReplay read_log(Store& file, const Header& header);
/// Writes it; doing it twice is doing it once. The file must be long enough.
void replay(const LogReplay& log, Store& file);

}  // namespace jh::vhdx

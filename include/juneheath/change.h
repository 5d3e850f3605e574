// Changes: carried out, taken back, and put right after a crash.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juneheath/plan.h"

#pragma GCC visibility push(default)

namespace juneheath {

/// Is told how far work is. Calls come from the thread that asked for the work.
class Observer {
 public:
  virtual ~Observer();
  /// A piece of work of `total` bytes (0: unknown) begins.
  virtual void begin(const std::string& what, std::uint64_t total);
  /// So many bytes of it are done. Returning false stops the work, with nothing changed.
  virtual bool advance(std::uint64_t done);
  virtual void end();
};

struct ChangeOptions {
  bool keep_undo = true;
  bool full_proof = false;  // look at everything, not only at what the change could have touched
  Observer* observer = nullptr;
};

/// What the proof has looked at.
struct Evidence {
  std::string what;
  std::uint64_t count = 0;
  std::string unit;  // "bytes"; may be empty
};

struct Change {
  std::vector<Evidence> evidence;
  std::uint64_t written_directly = 0;  // bytes
  std::uint64_t moved_by_sharing = 0;  // bytes that use the blocks of the host they always had
  std::uint64_t ledger_bytes = 0;
};

/// All or nothing: carries the plan out on a stage, proves the result and seals it. The guest must
/// have been opened for a change; it shows what was, and is to be opened again. Throws Error.
Change carry_out(const Guest& guest, const Plan& plan, const ChangeOptions& options = {});

/// Takes the last change of these images back, byte for byte. Throws Error: something has been
/// written since, or there is nothing to take back.
void undo(const std::vector<std::string>& images, const OpenOptions& options = {});

enum class Recovery { rolled_back, finished };
struct Recovered {
  std::vector<std::string> images;
  Recovery result = Recovery::finished;
};
/// Finishes or rolls back what was interrupted; returns what that was, mostly nothing. Throws
/// Error: the images are not as it left them.
std::vector<Recovered> recover(const std::vector<std::string>& images,
                               const OpenOptions& options = {});

}  // namespace juneheath

#pragma GCC visibility pop

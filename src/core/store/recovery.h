// Recovery: what may be done with a ledger once the process that made it is gone. The world has
// moved on since: the guest may have run, the image may be another, the ledger may be somebody's
// trap.
//
// So a ledger reaches no file that the user has not named in this call, or that is not a part of
// one by the form's own word; and what is to be written over must be, byte for byte, as the change
// left it or as it found it. Dropping an unfinished change writes to no image at all.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "core/base/ranges.h"
#include "core/store/ledger.h"

namespace jh {

/// The images that the user named, and what counts as a part of one of them.
struct Named {
  std::vector<std::string> images;
  std::function<bool(const std::string& image, const std::string& file)> is_part;
};

enum class RecoverResult { nothing_to_do, dropped, finished, undo_dropped, undone, forgotten };

/// A ledger that waits beside the named images.
struct Waiting {
  Ledger::State state{};
  bool has_undo = true;
  std::uint64_t changed_at = 0;     // seconds since 1970
  std::vector<std::string> images;  // all that the change is about, and that are there
};

/// Those that the named images lead to, each once. Throws refused when one is about files that
/// were not named, with the command that names them.
std::vector<Waiting> waiting_changes(Host& host, const Named& named);

struct Recovered {
  RecoverResult result = RecoverResult::nothing_to_do;
  std::vector<std::string> images;
  std::vector<std::string> left;  // files that a dropped change made, and that are not removed
  bool ended_undo = false;        // the change before a dropped one cannot be taken back any more
};

/// Finishes or drops the interrupted change that this one of the named images leads to. Throws
/// refused or damaged, having written nothing, when an image is not as the change left or found it.
Recovered recover(Host& host, const std::string& image, const Named& named);
/// Leaves the images as they are and removes the ledger of an interrupted change.
Recovered forget_change(Host& host, const std::string& image, const Named& named);
/// Removes what is kept for the undo of a finished change: for work that would make it useless.
/// Returns whether there was any.
bool end_undo(Host& host, const std::string& image);

/// What an undo would take back; for the plan that is shown first.
struct UndoFacts {
  struct Image {
    std::string path;
    std::uint64_t present_size = 0;
    std::uint64_t old_size = 0;
    bool created = false;  // by the change: undoing removes it
  };
  /// A range of the disk in an image that the change handed out, and the checksum of what it held.
  struct AssignedRange {
    std::string path;
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    bool zero = false;
    std::uint32_t crc = 0;
  };
  std::vector<Image> images;
  /// By image: what the change wrote, and what taking it back would write.
  std::vector<Ranges> touched{};
  std::vector<AssignedRange> assigned_ranges;
  std::uint64_t changed_at = 0;  // seconds since 1970
  std::uint64_t bytes_put_back = 0;
};

/// Compares every image with what the change left behind. Throws refused when there is no finished
/// change, or something of it has been written over since. Whether what was handed out is still
/// unused is for the caller to see, who knows the forms of images.
UndoFacts check_undo(Host& host, const std::string& image, const Named& named);
/// Takes the change back; checks first, and asks `also_check`, which may throw, before anything is
/// written.
UndoFacts undo(Host& host, const std::string& image, const Named& named,
               const std::function<void(const UndoFacts&)>& also_check = {});

}  // namespace jh

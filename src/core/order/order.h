// Order: a work order, what is to be done to which guests. The format is in docs/order.md.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "core/base/errors.h"

namespace jh {

/// One guest's part: a command line for the order's folder.
struct Task {
  std::string name;                    // among the order's; fit for a file's name
  std::string change;                  // "grow"
  std::vector<std::string> images;     // as the command names them
  std::vector<std::string> made;       // files that are there once it is done: --into, recast's NEW
  std::vector<std::string> added;      // disks that it adds
  std::vector<std::string> arguments;  // images and options
  int line = 0;                        // of the order, where the guest begins
};

struct Order {
  enum class AfterFailure { go_on, stop };

  std::string path;
  std::string folder;  // of the order: where its names start from
  std::string title;
  std::string report;                   // folder of results
  std::size_t jobs = 0;                 // side by side; 0: not said
  std::size_t jobs_per_storage = 0;     // on one filesystem of the host; 0: no limit of its own
  std::optional<std::uint64_t> memory;  // bytes, for all jobs together
  AfterFailure after_failure = AfterFailure::go_on;
  std::optional<std::int64_t> deadline;    // seconds since 1970: none is begun afterwards
  std::vector<std::string> slurm_options;  // for the scheduler's submission
  std::string slurm_program;  // this program, as its machines find it; empty: as it was called
  std::vector<Task> tasks;
};

/// What a command's options look like to an order.
struct OptionFact {
  std::string name;  // "give", "allow-move"
  bool takes_value = false;
  bool repeats = false;
};
/// The options of a change that an order may set; nothing: it is none that an order knows.
using OptionsOf = std::function<std::optional<std::vector<OptionFact>>(const std::string& change)>;

/// Reads and validates it, patterns resolved against the host's folders. Throws usage errors with
/// file and line, and what is allowed there. `now`: seconds since 1970, for deadlines like "2h".
Order read_order(const std::string& path, const OptionsOf& options, std::int64_t now);

/// All changes that an order knows.
const std::vector<std::string>& order_changes();

}  // namespace jh

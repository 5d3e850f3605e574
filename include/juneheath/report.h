// A page that shows a guest before a change, the plan, and what came of it.
#pragma once

#include <string>

#include "juneheath/change.h"

#pragma GCC visibility push(default)

namespace juneheath {

/// What there is to show; whatever is null is left out.
struct Story {
  std::string command = "grow";
  const Guest* before = nullptr;
  const Plan* plan = nullptr;
  const Change* change = nullptr;
  const Guest* after = nullptr;
  const Error* error = nullptr;
};

/// Writes report.html, report.json and the figures into the folder, which is made if needed. Throws
/// Error (io).
void write_report(const Story& story, const std::string& folder);

}  // namespace juneheath

#pragma GCC visibility pop

// Report: what a guest looks like, and what a change did, as rows and as JSON. No text layout here.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <vector>

#include "core/base/evidence.h"
#include "core/base/findings.h"
#include "core/guest/guest.h"
#include "core/plan/plan.h"

namespace jh {

/// One layer's size, under a name that stays the same across a change.
struct LayerSize {
  std::string name;    // "image file", "disk", "GPT", "p3", "ext4 on p3"
  std::string detail;  // "/", "label root" ...
  Bytes size;
  std::optional<Bytes> free;
};

std::vector<LayerSize> layer_sizes(const Guest& guest);

struct LayerChange {
  std::string name;
  std::string detail;
  Bytes before;
  Bytes after;
  std::optional<Bytes> free_after;
};

/// Joins two lists by name; a layer that is in one only is left out.
std::vector<LayerChange> compare_layers(const std::vector<LayerSize>& before,
                                        const std::vector<LayerSize>& after);

/// A blocker, a backup copy in the wrong place, room that nothing uses: what the survey says of a
/// disk.
struct SurveyAdvice {
  std::string what;
  Advice next{};  // mostly one command; may be empty
};
std::vector<SurveyAdvice> advice_for(const Guest& guest);

/// JSON documents; the schema is described in docs/commands.md under "JSON". `typed` says how a
/// command is typed.
nlohmann::json survey_json(const Guest& guest, const CommandText& typed);
nlohmann::json plan_json(const Plan& plan);
nlohmann::json changes_json(const std::vector<LayerChange>& changes);
nlohmann::json findings_json(const Findings& findings);
nlohmann::json error_json(const Error& error, const CommandText& typed);
/// What stands against something: what, where, and what to do next.
nlohmann::json error_brief(const Error& error, const CommandText& typed);

/// "refused", "damage found": how a run ended that did not end well.
const char* status_word(Status status);

/// "12 files", "4.2 MiB"
std::string count_text(const Evidence& evidence);

/// "root", "p3 (/)": how a place is called in rows.
std::string describe_place(const Guest& guest, const Layer& layer);

}  // namespace jh

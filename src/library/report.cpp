#include <ctime>

#include "core/base/version.h"
#include "core/report/record.h"
#include "library/command_text.h"
#include "library/inside.h"

namespace juneheath {
namespace {

jh::Error core_error(const Error& error) {
  return {static_cast<jh::Status>(error.status()), error.what(), error.where(), error.next()};
}

}  // namespace

void write_report(const Story& story, const std::string& folder) {
  translated([&] {
    jh::RunRecord record;
    record.command = story.command;
    record.words = {"juneheath", story.command};
    record.version = jh::core_version();
    record.started = std::time(nullptr);
    record.typed = jh::command_text;
    record.changed = story.change != nullptr;
    record.dry_run = story.plan != nullptr && story.change == nullptr && story.error == nullptr;
    if (story.error != nullptr) {
      record.error = core_error(*story.error);
      record.status = static_cast<int>(story.error->status());
    }
    if (story.plan != nullptr) record.plan = story.plan->inside().plan;
    if (story.before != nullptr) {
      const jh::Guest& guest = *story.before->inside().opened.guest;
      record.images = story.before->images();
      record.before = jh::view_with_states(guest);
      record.sizes = jh::layer_sizes(guest);
      record.advice = jh::advice_for(guest);
      if (record.plan && story.after == nullptr)
        record.after = jh::planned_view(guest, *record.plan);
    }
    if (story.after != nullptr) {
      const jh::Guest& guest = *story.after->inside().opened.guest;
      record.after = jh::view_of(guest);
      record.layers = jh::compare_layers(record.sizes, jh::layer_sizes(guest));
    }
    if (story.change != nullptr)
      for (const Evidence& seen : story.change->evidence)
        record.evidence.push_back({seen.what, seen.count, seen.unit});
    jh::write_report(record, folder);
  });
}

}  // namespace juneheath

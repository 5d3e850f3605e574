#include "cli/live.h"

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <unistd.h>

#include <ctime>
#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/change_run.h"
#include "cli/picture.h"
#include "cli/plan_text.h"
#include "cli/survey_text.h"
#include "core/figure/view.h"
#include "core/live/linux_kernel.h"
#include "core/live/live_change.h"
#include "core/plan/floors.h"
#include "core/report/report.h"

namespace jh::cli {
namespace {

using live::LinuxKernel;
using live::LiveChange;
using live::RunningSystem;

std::string name_of_system(live::KernelFacts& kernel) {
  const std::string name = kernel.read_text("/proc/sys/kernel/hostname", 256).value_or("");
  return name.substr(0, name.find('\n'));
}

// A folder of its own for each change.
std::string folder_for_tables(const Parsed& parsed) {
  const std::time_t now = std::time(nullptr);
  std::tm parts{};
  ::gmtime_r(&now, &parts);
  return fmt::format("{}/live-{:%Y%m%d-%H%M%S}-{}", parsed.common.ledger_folder, parts, ::getpid());
}

nlohmann::json tables_json(const live::TablesKept& kept) {
  return {{"folder", kept.folder}, {"put_back", kept.command}};
}

int nothing_to_do(CommandRun& run, const Error& error) {
  run.record.document = {{"done", false}, {"nothing_to_do", true}, {"why", error.what()}};
  if (run.text()) std::cout << "Nothing to do: " << printable(error.what()) << ".\n";
  return 0;
}

}  // namespace

int survey_live(CommandRun& run, const Parsed& parsed) {
  LinuxKernel kernel;
  live::ask_for_sizes(kernel);
  const RunningSystem system(kernel, parsed.images);
  const Guest& guest = system.guest();
  run.record_before(guest);
  const std::vector<std::string> untold = not_told(system);
  if (run.json() || run.reports()) {
    run.record.document = survey_json(guest, command_text);
    // Devices take nothing of a host's filesystem.
    for (auto& disk : run.record.document["disks"]) disk["allocated_on_host"] = 0;
    run.record.document["running"] = true;
    run.record.document["not_told"] = untold;
    run.record.document["left_out"] = nlohmann::json::array();
    for (const Error& disk : system.left_out())
      run.record.document["left_out"].push_back(error_brief(disk, command_text));
  }
  if (run.reports()) run.record.advice = advice_for(guest);
  if (parsed.values.count("figure") != 0)
    write_figure(guest, parsed.values["figure"].as<std::string>());
  if (!run.text()) return 0;
  std::cout << "the running system " << styled(printable(name_of_system(kernel)), Style::heading)
            << "\n\n";
  Floors floors(guest);
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    std::cout << styled(disk.path, Style::heading) << "\n"
              << fmt::format("  {} with {}-byte sectors\n", spelled_out(disk.size()),
                             system.disk(i).sector_size);
    print_disk_layers(guest, floors, i);
    std::cout << "\n";
  }
  for (const Error& disk : system.left_out())
    std::cout << styled(disk.where(), Style::heading) << "\n  " << printable(disk.what()) << "\n\n";
  print_groups(guest, floors);
  for (const std::string& words : untold)
    std::cout << "  " << printable(words) << "; growing tells it\n";
  print_advice(guest);
  return 0;
}

int grow_live(CommandRun& run, const Parsed& parsed, GrowRequest request) {
  LinuxKernel kernel;
  request.running = true;
  const bool dry_run = parsed.values["dry-run"].as<bool>();
  std::optional<LiveChange> change;
  try {
    failing_with(Outcome::unchanged, [&] {
      change.emplace(kernel, request, live::Notes(parsed.common.ledger_folder), !dry_run);
    });
  } catch (const Error& error) {
    if (parsed.values["if-room"].as<bool>() && error.reason() == Reason::no_room)
      return nothing_to_do(run, error);
    throw;
  }
  const Guest& guest = change->system().guest();
  run.record_before(guest);
  run.record.plan = change->plan();
  if (run.text()) {
    for (const std::string& words : change->repaired()) std::cout << printable(words) << "\n";
    print_plan(change->plan(), guest);
  }
  if (dry_run) {
    run.record.dry_run = true;
    run.record.document = {{"plan", plan_json(change->plan())}, {"done", false}};
    if (run.reports()) run.record.after = planned_view(guest, change->plan());
    if (run.text()) std::cout << "\n  This was a dry run: nothing was changed.\n";
    return 0;
  }
  if (!may_go_on(parsed, /*needs_yes=*/false)) {
    if (run.text()) std::cout << "  Nothing was changed.\n";
    return static_cast<int>(Status::refused);
  }
  const std::vector<LayerSize> before = layer_sizes(guest);
  const auto progress = progress_of(run);
  live::TablesKept kept = failing_with(Outcome::unchanged, [&] {
    return keep_tables(change->system(), change->plan(), folder_for_tables(parsed));
  });
  std::size_t done = 0;
  try {
    change->carry_out(*progress, [&](const Step& step) {
      run.log(fmt::format("done: {}: {}", step.name, step.action));
      ++done;
    });
  } catch (const Error& error) {
    // Refused before anything was begun: the next change would find a way back to what is none.
    if (done == 0 && error.status() == Status::refused) live::end_put_back(kept);
    throw;
  }
  // The new room is in use from here on: there is no way back that would lose nothing.
  live::end_put_back(kept);
  const auto now = change->look_again();
  const std::vector<LayerChange> changes = compare_layers(before, layer_sizes(now->guest()));
  run.record_after(now->guest());
  run.record.changed = true;
  run.record.layers = changes;
  run.record.document = {{"plan", plan_json(change->plan())},
                         {"done", true},
                         {"layers", changes_json(changes)},
                         {"steps_done", done},
                         {"tables_kept", tables_json(kept)}};
  if (!run.text()) return 0;
  print_changes(changes);
  return 0;
}

}  // namespace jh::cli

#include "cli/change_run.h"

#include <fmt/format.h>

#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/change_files.h"
#include "cli/plan_text.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/change/carry_out.h"
#include "core/guest/audit.h"
#include "core/report/report.h"

namespace jh::cli {

namespace po = boost::program_options;

void add_change_options(po::options_description& own, const char* yes) {
  own.add_options()("dry-run", po::bool_switch(), "show the plan and stop")(
      "backup", po::value<std::string>()->value_name("FILE"), "copy the image there first")(
      "into", po::value<std::string>()->value_name("OUT"),
      "do it on a new image, read the old one only")("no-undo", po::bool_switch(),
                                                     "keep no ledger for undo")(
      "proof", po::value<std::string>()->default_value("usual")->value_name("HOW"),
      "usual, or full: look at everything")("yes", po::bool_switch(), yes);
}

ChangeOptions change_options_from(const Parsed& parsed) {
  ChangeOptions options;
  options.into_copy = parsed.values.count("into") != 0;
  // What is new can be thrown away; there is nothing to take back.
  options.keep_undo = !parsed.values["no-undo"].as<bool>() && !options.into_copy;
  options.proof = proof_from(parsed);
  return options;
}

std::size_t disk_from(const Parsed& parsed, const char* option) {
  const std::size_t disk = parsed.values[option].as<std::size_t>();
  if (disk == 0 || disk > parsed.images.size())
    wrong_usage(fmt::format("--{} {} is not among the images named", option, disk),
                fmt::format("use a number from 1 to {}", parsed.images.size()));
  return disk - 1;
}

bool may_go_on(const Run& told, const Parsed& parsed, bool needs_yes) {
  if (parsed.values["yes"].as<bool>()) return true;
  if (needs_yes && !is_interactive())
    refuse("making something smaller is not done without being asked for twice", {},
           "look at the plan (--dry-run), then add --yes");
  const bool text = told.text();
  return !(needs_yes || (text && is_interactive())) || confirmed("\n  Go ahead?");
}

namespace {

// Where the result will be written.
void check_room(Host& host, const Parsed& parsed, const ChangeOptions& options, Plan plan) {
  if (options.into_copy)
    for (DiskChange& disk : plan.disks) disk.path = parsed.values["into"].as<std::string>();
  check_host_room(host, plan);
}

void note_result(Run& run, const Plan& plan, const ChangeResult& result, const Guest& now,
                 const std::vector<LayerChange>& changes, const std::string& undo) {
  run.became(now);
  run.record.changed = true;
  run.record.layers = changes;
  run.record.evidence = result.evidence.all();
  run.record.figures = {{"kept in the ledger", result.ledger_bytes, "bytes"},
                        {"written directly to the image", result.written_directly, "bytes"}};
  run.record.way_back = undo;
  run.record.document = {{"plan", plan_json(plan)},
                         {"done", true},
                         {"layers", changes_json(changes)},
                         {"written_directly", result.written_directly},
                         {"ledger_bytes", result.ledger_bytes},
                         {"undo", undo}};
}

void print_result(const Parsed& parsed, const ChangeResult& result,
                  const std::vector<LayerChange>& changes, const std::string& undo) {
  print_changes(changes);
  if (!undo.empty())
    std::cout << "\n  To take it back, as long as the guest has not been started:\n      "
              << styled(undo, Style::command) << "\n";
  if (!parsed.common.verbose) return;
  std::cout << fmt::format("  {} went to the ledger, {} directly to the image\n",
                           human(Bytes(result.ledger_bytes)),
                           human(Bytes(result.written_directly)));
  for (const Evidence& seen : result.evidence.all())
    std::cout << fmt::format("  proven: {}, {}\n", seen.what, count_text(seen));
}

}  // namespace

int run_change(Run& told, const Parsed& parsed, const ChangeOptions& options,
               const ChangeRun& run) {
  const bool text = told.text();
  const bool dry_run = parsed.values["dry-run"].as<bool>();
  FileHost host = host_for(parsed, parsed.images);
  check_no_unfinished_change(host, parsed.images);
  check_output_names(parsed, run.add_disks);
  // Locked first: what is looked at afterwards stays as it is until the seal.
  const Locks locks = dry_run ? Locks() : lock_images(host, parsed.images, options);
  const bool had_undo = check_no_unfinished_change(host, parsed.images);
  Session session;
  Plan plan;
  failing_leaves(Left::unchanged, [&] {
    session = open_session(parsed, parsed.images, run.add_disks);
    told.saw(*session.guest);
    plan = run.plan(*session.guest, parsed.images);
    told.record.plan = plan;
    for (std::size_t i = 0; i < plan.disks.size(); ++i)
      if (plan.touches(i)) check_image_sound(session.guest->disks()[i]);
  });
  if (text) print_plan(plan, *session.guest);
  if (text && options.into_copy)
    std::cout
        << "  All of it is done on a new image, "
        << printable(parsed.values["into"].as<std::string>())
        << "; the original is only read.\n  Where the form gives an image an identity, the new one "
           "gets its own.\n";
  if (dry_run) {
    told.record.dry_run = true;
    told.record.document = {{"plan", plan_json(plan)}, {"done", false}};
    if (told.reports()) told.record.after = planned_view(*session.guest, plan);
    if (text) std::cout << "\n  This was a dry run: nothing was changed.\n";
    return 0;
  }
  if (!may_go_on(told, parsed, run.needs_yes)) {
    std::cout << "  Nothing was changed.\n";
    return static_cast<int>(Status::refused);
  }
  const auto progress = progress_of(told);
  check_room(host, parsed, options, plan);
  Copies copies(host);
  std::vector<std::string> images = parsed.images;
  failing_leaves(Left::unchanged, [&] {
    make_backup(parsed, *session.guest, *progress);
    if (!options.into_copy) return;
    images = copies.make(images, parsed.values["into"].as<std::string>(), *progress);
    session = open_session(parsed, images, run.add_disks);
    plan = run.plan(*session.guest, images);
  });
  const std::vector<LayerSize> before = layer_sizes(*session.guest);
  const ChangeResult result = carry_out(host, *session.guest, plan, options, *progress);
  if (options.into_copy) images = copies.keep();
  for (const auto& [path, size] : run.add_disks) images.push_back(path);
  const Session now = open_session(parsed, images);
  const std::vector<LayerChange> changes = compare_layers(before, layer_sizes(*now.guest));
  const std::string undo = options.keep_undo ? undo_command(images) : "";
  note_result(told, plan, result, *now.guest, changes, undo);
  // A new image can simply be thrown away.
  if (options.into_copy) told.record.way_back = "rm " + shell_words(images);
  if (text) print_result(parsed, result, changes, undo);
  if (text && had_undo && !options.into_copy)
    std::cout << "  The change before this one can no longer be taken back.\n";
  return 0;
}

}  // namespace jh::cli

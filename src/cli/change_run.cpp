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

void add_change_options(po::options_description& own, const char* yes) {
  own.add_options()("dry-run", po::bool_switch(), "show the plan and stop")(
      "backup", po::value<std::string>()->value_name("FILE"), "copy the image there first")(
      "into", po::value<std::string>()->value_name("OUT"),
      "do it on a new image, read the old one only")(
      "form", po::value<std::string>()->value_name("FORM"),
      "of what is made new (else by its name's ending)")("no-undo", po::bool_switch(),
                                                         "keep no ledger for undo")(
      "proof", po::value<std::string>()->default_value("usual")->value_name("HOW"),
      "usual, or full: look at everything")("yes", po::bool_switch(), yes);
  add_share_option(own);
}

ChangeOptions change_options_from(const Parsed& parsed) {
  ChangeOptions options;
  options.into_copy = parsed.values.count("into") != 0;
  // What is new can be thrown away; there is nothing to take back.
  options.keep_undo = !parsed.values["no-undo"].as<bool>() && !options.into_copy;
  options.proof = proof_from(parsed);
  options.sharing = sharing_from(parsed);
  options.format = format_from(parsed);
  return options;
}

std::size_t disk_from(const Parsed& parsed, const char* option) {
  const std::size_t disk = parsed.values[option].as<std::size_t>();
  if (disk == 0 || disk > parsed.images.size())
    wrong_usage(fmt::format("--{} {} is not among the images named", option, disk),
                fmt::format("use a number from 1 to {}", parsed.images.size()));
  return disk - 1;
}

ImageFormat format_from(const std::string& text) {
  for (const ImageFormat format : {ImageFormat::raw, ImageFormat::qcow2, ImageFormat::vdi,
                                   ImageFormat::vmdk, ImageFormat::vhd, ImageFormat::vhdx})
    if (fold_case(text) == fold_case(format_name(format))) return format;
  wrong_usage(fmt::format("\"{}\" is no form of images", text),
              "use raw, qcow2, vdi, vmdk, vhd or vhdx");
}

std::optional<ImageFormat> format_from(const Parsed& parsed) {
  if (parsed.values.count("form") == 0) return std::nullopt;
  return format_from(parsed.values["form"].as<std::string>());
}

bool may_go_on(const Parsed& parsed, bool needs_yes) {
  if (parsed.values["yes"].as<bool>()) return true;
  if (is_interactive()) return confirmed("\n  Go ahead?");
  if (needs_yes)
    refuse("shrinking needs confirmation", {}, "look at the plan (--dry-run), then add --yes");
  return true;
}

namespace {

// Where the result will be written.
void check_room(Host& host, const Parsed& parsed, const ChangeOptions& options, Plan plan) {
  if (options.into_copy)
    for (DiskChange& disk : plan.disks) disk.path = parsed.values["into"].as<std::string>();
  check_host_room(host, plan, options.sharing);
}

// A sparse disk may be promised more than its host has: nobody notices before it is full.
void note_promises(Host& host, Plan& plan) {
  for (const DiskChange& disk : plan.disks) {
    if (disk.to <= disk.from) continue;
    const std::uint64_t free = host.free_space(disk.path);
    if ((disk.to - disk.from).value() > free)
      plan.notes.push_back(fmt::format(
          "{} is promised {} more, and its host has {} free: when the guest fills it, the host is "
          "full first",
          disk.path, human(disk.to - disk.from), human(Bytes(free))));
  }
}

void note_result(CommandRun& run, const Plan& plan, const ChangeResult& result, const Guest& now,
                 const std::vector<LayerChange>& changes, const std::string& undo) {
  run.record_after(now);
  run.record.changed = true;
  run.record.layers = changes;
  run.record.evidence = result.evidence.all();
  run.record.figures = {{"kept in the ledger", result.ledger_bytes, "bytes"},
                        {"written directly to the image", result.written_directly, "bytes"},
                        {"moved by sharing blocks of the host", result.moved_by_sharing, "bytes"}};
  run.record.way_back = undo;
  run.record.document = {{"plan", plan_json(plan)},
                         {"done", true},
                         {"layers", changes_json(changes)},
                         {"written_directly", result.written_directly},
                         {"moved_by_sharing", result.moved_by_sharing},
                         {"ledger_bytes", result.ledger_bytes},
                         {"undo", undo}};
}

void print_result(const Parsed& parsed, const ChangeResult& result,
                  const std::vector<LayerChange>& changes, const std::string& undo) {
  print_changes(changes);
  if (result.moved_by_sharing != 0)
    std::cout << "\n  " << moved_text({result.moved_by_sharing, result.written_directly}) << "\n";
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

int run_change(CommandRun& told, const Parsed& parsed, const ChangeOptions& options,
               const ChangeRun& run) {
  const bool text = told.text();
  const bool dry_run = parsed.values["dry-run"].as<bool>();
  FileHost host = host_for(parsed, parsed.images);
  check_no_unfinished_change(host, parsed.images);
  check_output_names(parsed, run.add_disks);
  // Locked first: what is looked at afterwards stays as it is until the seal.
  const Locks locks = lock_images(host, parsed.images, options, dry_run);
  const bool ends_undo = check_no_unfinished_change(host, parsed.images) && !options.into_copy;
  Session session;
  Plan plan;
  Copies copies(host, sharing_from(parsed));
  std::vector<CopyPlan> planned_copies;
  failing_with(Outcome::unchanged, [&] {
    if (options.into_copy)
      planned_copies =
          copies.plan(parsed.images, parsed.values["into"].as<std::string>(), options.format);
    session = open_session(parsed, parsed.images, run.add_disks, planned_copies);
    told.record_before(*session.guest);
    plan = run.plan(*session.guest, parsed.images);
    told.record.plan = plan;
    for (std::size_t i = 0; i < plan.disks.size(); ++i)
      if (plan.touches(i)) check_image_sound(session.guest->disks()[i]);
  });
  note_promises(host, plan);
  told.record.plan = plan;
  Transferred planned;
  for (const CopyPlan& copy : planned_copies) planned += copy.transfer;
  if (text) print_plan(plan, *session.guest);
  if (text && options.into_copy)
    std::cout
        << "  The change is made on a new image, "
        << printable(parsed.values["into"].as<std::string>())
        << "; the original is only read.\n  Where the form gives an image an identity, the new one "
           "gets its own.\n"
        << "  Of its content: " << transfer_text(planned) << ".\n";
  if (text && ends_undo)
    std::cout << (options.keep_undo
                      ? "  The change before this one can no longer be taken back then.\n"
                      : "  Neither this change nor the one before it can be taken back then.\n");
  if (dry_run) {
    told.record.dry_run = true;
    if (options.into_copy)
      told.record.copies.push_back({parsed.values["into"].as<std::string>(), "new image", planned});
    told.record.document = {{"plan", plan_json(plan)}, {"done", false}};
    if (told.reports()) told.record.after = planned_view(*session.guest, plan);
    if (text) std::cout << "\n  This was a dry run: nothing was changed.\n";
    return 0;
  }
  if (!may_go_on(parsed, run.needs_yes)) {
    if (text) std::cout << "  Nothing was changed.\n";
    return static_cast<int>(Status::refused);
  }
  told.before_change(plan);
  const auto progress = progress_of(told);
  check_room(host, parsed, options, plan);
  std::vector<std::string> images = parsed.images;
  failing_with(Outcome::unchanged, [&] {
    make_backup(told, parsed, *session.guest, options.proof, *progress);
    if (!options.into_copy) return;
    const SourceWatch source(all_files(host, images, /*with_parents=*/true));
    images =
        copies.make(images, parsed.values["into"].as<std::string>(), options.format, *progress);
    source.check();
    note_copy(told, parsed.values["into"].as<std::string>(), "new image", copies.content());
    // The same guest by other names: what was shown is what is carried out.
    session = open_session(parsed, images, run.add_disks);
    for (std::size_t i = 0; i < images.size(); ++i) plan.disks[i].path = images[i];
  });
  const std::vector<LayerSize> before = layer_sizes(*session.guest);
  const ChangeResult result = carry_out(host, *session.guest, plan, options, *progress);
  if (options.into_copy) images = copies.keep();
  told.record.changed = true;
  done_but("the result cannot be shown", [&] {
    for (const auto& [path, size] : run.add_disks) images.push_back(path);
    const Session now = open_session(parsed, images);
    const std::vector<LayerChange> changes = compare_layers(before, layer_sizes(*now.guest));
    const std::string undo = options.keep_undo ? undo_command(parsed, images) : "";
    note_result(told, plan, result, *now.guest, changes, undo);
    // A new image can simply be thrown away.
    if (options.into_copy) told.record.way_back = "rm " + shell_words(images);
    if (text) print_result(parsed, result, changes, undo);
  });
  return 0;
}

}  // namespace jh::cli

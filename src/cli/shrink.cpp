#include <fmt/format.h>

#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/change_files.h"
#include "cli/commands.h"
#include "cli/options.h"
#include "cli/plan_text.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/change/carry_out.h"
#include "core/change/plan_shrink.h"
#include "core/report/report.h"

namespace jh::cli {

namespace po = boost::program_options;

namespace {

po::options_description own_options() {
  po::options_description own("Shrink");
  own.add_options()("to", po::value<std::string>()->value_name("SIZE|floor"),
                    "the disk's new total size, or the smallest there is")(
      "by", po::value<std::string>()->value_name("SIZE"), "how much the disk loses")(
      "take", po::value<std::vector<std::string>>()->value_name("TARGET[=AMOUNT]"),
      "what becomes smaller: a mount point, swap, group/volume, p3, label:NAME, uuid:ID. AMOUNT: "
      "what it loses, a size or a percentage of what it can (the default: all)")(
      "disk", po::value<std::size_t>()->value_name("N"), "which image becomes smaller (from 1)")(
      "remove-disk", po::value<std::size_t>()->value_name("N"),
      "empty this image's part of the volume group and take it out")(
      "allow-move", po::bool_switch(), "partitions may move towards the front")(
      "dry-run", po::bool_switch(), "show the plan and stop")(
      "backup", po::value<std::string>()->value_name("FILE"), "copy the image there first")(
      "into", po::value<std::string>()->value_name("OUT"),
      "do it on a new image, read the old one only")("no-undo", po::bool_switch(),
                                                     "keep no ledger for undo")(
      "proof", po::value<std::string>()->default_value("usual"),
      "usual, or full: look at everything")("yes", po::bool_switch(), "do not ask");
  return own;
}

std::size_t disk_from(const Parsed& parsed, const char* name) {
  const std::size_t disk = parsed.values[name].as<std::size_t>();
  if (disk == 0 || disk > parsed.images.size())
    wrong_usage(fmt::format("--{} {} is not among the images named", name, disk),
                fmt::format("use a number from 1 to {}", parsed.images.size()));
  return disk - 1;
}

ShrinkRequest request_from(const Parsed& parsed) {
  const auto& values = parsed.values;
  ShrinkRequest request;
  request.images = parsed.images;
  request.sector_size = parsed.common.sector_size;
  if (values.count("to") != 0 && values.count("by") != 0)
    wrong_usage("--to and --by exclude each other",
                "--to names the new total, --by what is taken from it");
  if (values.count("to") != 0) {
    const std::string to = values["to"].as<std::string>();
    if (to == "floor")
      request.to_floor = true;
    else
      request.to = parse_size(to);
  }
  if (values.count("by") != 0) request.by = parse_size(values["by"].as<std::string>());
  if (request.by && *request.by == Bytes(0)) wrong_usage("--by 0 takes nothing");
  if (values.count("take") != 0)
    for (const std::string& text : values["take"].as<std::vector<std::string>>())
      request.takes.push_back(parse_give(text));
  if (values.count("disk") != 0) {
    request.disk = disk_from(parsed, "disk");
    request.disk_chosen = true;
  }
  if (values.count("remove-disk") != 0) request.remove_disk = disk_from(parsed, "remove-disk");
  request.allow_move = values["allow-move"].as<bool>();
  request.keep_undo = !values["no-undo"].as<bool>();
  request.into_copy = values.count("into") != 0;
  if (request.into_copy) request.keep_undo = false;
  request.proof = proof_from(parsed);
  return request;
}

}  // namespace

int run_shrink(const Arguments& arguments) {
  const CommandLine line{
      "shrink", "IMAGE... (--to SIZE | --to floor | --by SIZE) [--take TARGET[=AMOUNT]]",
      "Makes the disk smaller, or only what is in it: filesystems, swap, volumes, groups, "
      "partitions\n"
      "and the image, from the inside out. What lies in the way moves. All of it or nothing.",
      "  juneheath shrink heath.img --to 20GiB --yes\n"
      "  juneheath shrink heath.img --to floor --dry-run\n"
      "  juneheath shrink heath.img --take /home=10GiB      (the room stays in the group)\n"
      "  juneheath shrink a.img b.img --remove-disk 2 --yes\n",
      own_options()};
  const Parsed parsed = parse(line, arguments);
  if (parsed.help_shown) return 0;
  ShrinkRequest request = request_from(parsed);
  const bool text = !parsed.common.json && !parsed.common.quiet;
  FileHost host(parsed.common.ledger_folder);
  check_no_unfinished_change(host, parsed.images);

  Session session = open_session(parsed.images, parsed.common.sector_size);
  Plan plan = plan_shrink(*session.guest, request);
  if (text) print_plan(plan, *session.guest);
  if (text && request.into_copy)
    std::cout << "  All of it is done on a new image, " << parsed.values["into"].as<std::string>()
              << "; the original is only read.\n";
  if (parsed.values["dry-run"].as<bool>()) {
    if (parsed.common.json) print_json("shrink", {{"plan", plan_json(plan)}, {"done", false}});
    if (text) std::cout << "\n  This was a dry run: nothing was changed.\n";
    return 0;
  }
  const auto locks = lock_images(*session.guest, request);
  if (!parsed.values["yes"].as<bool>()) {
    if (!is_interactive())
      refuse("making something smaller is not done without being asked for twice", {},
             "look at the plan (--dry-run), then add --yes");
    if (!confirmed("\n  Go ahead?")) {
      std::cout << "  Nothing was changed.\n";
      return static_cast<int>(Status::refused);
    }
  }
  ProgressLine progress(!text);
  if (!request.into_copy) check_host_room(host, plan);
  make_backup(parsed, *session.guest, progress);
  Copies copies(host);
  std::vector<std::string> images = parsed.images;
  if (request.into_copy) {
    images = copies.make(images, parsed.values["into"].as<std::string>(), progress);
    request.images = images;
    session = open_session(images, parsed.common.sector_size);
    plan = plan_shrink(*session.guest, request);
  }
  const std::vector<LayerSize> before = layer_sizes(*session.guest);
  const ChangeResult result = carry_out(host, *session.guest, plan, request, progress);
  copies.keep();
  const Session now = open_session(images, parsed.common.sector_size);
  const auto changes = compare_layers(before, layer_sizes(*now.guest));
  const std::string undo = undo_command(parsed.images);
  if (parsed.common.json) {
    print_json("shrink", {{"plan", plan_json(plan)},
                          {"done", true},
                          {"layers", changes_json(changes)},
                          {"written_directly", result.written_directly},
                          {"ledger_bytes", result.ledger_bytes},
                          {"undo", request.keep_undo ? undo : ""}});
    return 0;
  }
  if (!parsed.common.quiet) print_changes(changes);
  if (!parsed.common.quiet && request.keep_undo)
    std::cout << "\n  To take it back, as long as the guest has not been started:\n      "
              << styled(undo, Style::command) << "\n";
  if (parsed.common.verbose)
    std::cout << fmt::format("  {} went to the ledger, {} directly to the image\n",
                             human(Bytes(result.ledger_bytes)),
                             human(Bytes(result.written_directly)));
  return 0;
}

}  // namespace jh::cli

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
#include "core/change/checks.h"
#include "core/report/report.h"

namespace jh::cli {

namespace po = boost::program_options;

namespace {

po::options_description own_options() {
  po::options_description own("Grow");
  own.add_options()("to", po::value<std::string>()->value_name("SIZE"),
                    "the disk's new total size")("by", po::value<std::string>()->value_name("SIZE"),
                                                 "how much to add to the disk")(
      "give", po::value<std::vector<std::string>>()->value_name("TARGET[=AMOUNT]"),
      "who gets the room: a mount point, swap, group/volume, p3, label:NAME, uuid:ID, nothing; "
      "several for volumes of one group. AMOUNT: a size, a percentage, or rest (the default)")(
      "disk", po::value<std::size_t>()->value_name("N"), "which image becomes larger (from 1)")(
      "add-disk", po::value<std::vector<std::string>>()->value_name("FILE=SIZE"),
      "a new disk, the group extends onto it")("new-partition", po::bool_switch(),
                                               "make one, grow none in place")(
      "dry-run", po::bool_switch(), "show the plan and stop")(
      "backup", po::value<std::string>()->value_name("FILE"), "copy the image there first")(
      "into", po::value<std::string>()->value_name("OUT"),
      "do it on a new image, read the old one only")("no-undo", po::bool_switch(),
                                                     "keep no ledger for undo")(
      "proof", po::value<std::string>()->default_value("usual"),
      "usual, or full: look at everything")("yes", po::bool_switch(), "do not ask on a terminal");
  return own;
}

GrowRequest request_from(const Parsed& parsed) {
  const auto& values = parsed.values;
  GrowRequest request;
  request.images = parsed.images;
  request.sector_size = parsed.common.sector_size;
  if (values.count("to") != 0 && values.count("by") != 0)
    wrong_usage("--to and --by exclude each other",
                "--to names the new total, --by what is added to it");
  if (values.count("to") != 0) request.to = parse_size(values["to"].as<std::string>());
  if (values.count("by") != 0) request.by = parse_size(values["by"].as<std::string>());
  if (request.by && *request.by == Bytes(0)) wrong_usage("--by 0 adds nothing");
  if (values.count("give") != 0)
    for (const std::string& text : values["give"].as<std::vector<std::string>>())
      request.gives.push_back(parse_give(text));
  if (values.count("disk") != 0) {
    const std::size_t disk = values["disk"].as<std::size_t>();
    if (disk == 0 || disk > request.images.size())
      wrong_usage(fmt::format("--disk {} is not among the images named", disk),
                  fmt::format("use a number from 1 to {}", request.images.size()));
    request.disk = disk - 1;
    request.disk_chosen = true;
  }
  if (values.count("add-disk") != 0)
    for (const std::string& text : values["add-disk"].as<std::vector<std::string>>()) {
      const std::size_t equals = text.rfind('=');
      if (equals == std::string::npos || equals == 0)
        wrong_usage(fmt::format("\"{}\" names no file and size", text),
                    "write --add-disk FILE=SIZE");
      const Bytes size(round_up(parse_size(text.substr(equals + 1)).value(), 512));
      if (size < 4_MiB) wrong_usage("a disk of less than 4 MiB is of no use");
      request.add_disks.emplace_back(text.substr(0, equals), size);
    }
  request.new_partition = values["new-partition"].as<bool>();
  request.keep_undo = !values["no-undo"].as<bool>();
  request.into_copy = values.count("into") != 0;
  // What is new can be thrown away; there is nothing to take back.
  if (request.into_copy) request.keep_undo = false;
  request.proof = proof_from(parsed);
  return request;
}

}  // namespace

int run_grow(const Arguments& arguments) {
  const CommandLine line{
      "grow", "IMAGE... [--to SIZE | --by SIZE] [--give TARGET[=AMOUNT]]",
      "Makes the disk larger, or uses room it has already, and hands the room to the targets:\n"
      "partitions, groups, volumes, filesystems and swap, in the same step. All of it or nothing.",
      "  juneheath grow heath.img --to 40GiB\n"
      "  juneheath grow heath.img --give /=rest       (room that is there already)\n"
      "  juneheath grow heath.img --by 30GiB --give /var=20GiB --give swap=1GiB --give /\n"
      "  juneheath grow heath.img --by 10GiB --give nothing --dry-run\n",
      own_options()};
  const Parsed parsed = parse(line, arguments);
  if (parsed.help_shown) return 0;
  GrowRequest request = request_from(parsed);
  const bool text = !parsed.common.json && !parsed.common.quiet;
  FileHost host(parsed.common.ledger_folder);
  check_no_unfinished_change(host, parsed.images);

  Session session = open_session(parsed.images, parsed.common.sector_size, request.add_disks);
  Plan plan = plan_growth(*session.guest, request);
  const bool dry_run = parsed.values["dry-run"].as<bool>();
  if (text) print_plan(plan, *session.guest);
  if (text && request.into_copy)
    std::cout
        << "  All of it is done on a new image, " << parsed.values["into"].as<std::string>()
        << "; the original is only read.\n  Where the form gives an image an identity, the new one "
           "gets its own.\n";
  if (dry_run) {
    if (parsed.common.json) print_json("grow", {{"plan", plan_json(plan)}, {"done", false}});
    if (text) std::cout << "\n  This was a dry run: nothing was changed.\n";
    return 0;
  }
  const auto locks = lock_images(*session.guest, request);
  if (text && is_interactive() && !parsed.values["yes"].as<bool>() && !confirmed("\n  Go ahead?")) {
    std::cout << "  Nothing was changed.\n";
    return static_cast<int>(Status::refused);
  }
  ProgressLine progress(!text);
  check_host_room(host, plan);
  make_backup(parsed, *session.guest, progress);
  Copies copies(host);
  std::vector<std::string> images = parsed.images;
  if (request.into_copy) {
    images = copies.make(images, parsed.values["into"].as<std::string>(), progress);
    request.images = images;
    session = open_session(images, parsed.common.sector_size, request.add_disks);
    plan = plan_growth(*session.guest, request);
  }
  const std::vector<LayerSize> before = layer_sizes(*session.guest);
  const ChangeResult result = carry_out(host, *session.guest, plan, request, progress);
  copies.keep();
  std::vector<std::string> all = images;
  for (const auto& [path, size] : request.add_disks) all.push_back(path);
  const Session now = open_session(all, parsed.common.sector_size);
  const auto changes = compare_layers(before, layer_sizes(*now.guest));
  const std::string undo = undo_command(parsed.images);
  if (parsed.common.json) {
    print_json("grow", {{"plan", plan_json(plan)},
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

#include "core/plan/grow.h"

#include <fmt/format.h>

#include <filesystem>

#include "cli/change_run.h"
#include "cli/commands.h"
#include "cli/live.h"
#include "cli/options.h"

namespace jh::cli {

namespace {

po::options_description grow_options() {
  auto own = own_options("Grow");
  own.add_options()("to", po::value<std::string>()->value_name("SIZE"),
                    "the disk's new total size")("by", po::value<std::string>()->value_name("SIZE"),
                                                 "how much to add to the disk")(
      "give", po::value<std::vector<std::string>>()->value_name("TARGET[=AMOUNT]"),
      "who gets the room: /var, C:, system, swap, group/volume, p3, label:NAME, uuid:ID, nothing. "
      "AMOUNT: size, percentage, rest")("disk", po::value<std::size_t>()->value_name("N"),
                                        "which image becomes larger (from 1)")(
      "add-disk", po::value<std::vector<std::string>>()->value_name("FILE=SIZE"),
      "a new disk for the group, or a blank FILE that is there")("new-partition", po::bool_switch(),
                                                                 "make one, grow none in place")(
      "allow-move", po::bool_switch(),
      "what stands behind a target may move towards the disk's end")(
      "live", po::bool_switch(), "the running system; IMAGE: only these of its disks")(
      "if-room", po::bool_switch(), "with --live: end well when there is nothing to do");
  add_change_options(own, "do not ask on a terminal");
  return own;
}

GrowRequest request_from(const Parsed& parsed) {
  const auto& values = parsed.values;
  GrowRequest request;
  static_cast<ChangeOptions&>(request) = change_options_from(parsed);
  request.images = parsed.images;
  request.sector_size = parsed.common.sector_size;
  if (values.count("to") != 0 && values.count("by") != 0)
    wrong_usage("--to and --by exclude each other",
                "--to names the new total, --by what is added to it");
  if (values.count("to") != 0) {
    const std::string to = values["to"].as<std::string>();
    if (to.starts_with('+'))
      wrong_usage("--to takes the disk's new total size, and " + to + " is an addition",
                  "to add that much: --by " + to.substr(1));
    request.to = parse_size(to);
  }
  if (values.count("by") != 0) request.by = parse_size(values["by"].as<std::string>());
  for (const auto& size : {request.to, request.by})
    if (size && size->value() > static_cast<std::uint64_t>(INT64_MAX))
      wrong_usage("no disk can be so large", "see: juneheath --help, SIZE");
  if (request.by && *request.by == Bytes(0)) wrong_usage("--by 0 adds nothing");
  if (values.count("give") != 0)
    for (const std::string& text : values["give"].as<std::vector<std::string>>())
      request.gives.push_back(parse_give(text));
  if (values.count("disk") != 0) {
    request.disk = disk_from(parsed, "disk");
    request.disk_chosen = true;
  }
  const bool live = values["live"].as<bool>();
  if (live) {
    for (const char* option : {"to", "by", "disk", "into", "backup"})
      if (values.count(option) != 0)
        wrong_usage(fmt::format("--{} is for images, and not for a running system", option),
                    "make the disk larger in its console first; then hand out the room: juneheath "
                    "grow --live --give TARGET");
    if (values["allow-move"].as<bool>())
      wrong_usage("nothing moves in a running system",
                  "shut it down, and change its disk from outside");
  } else if (values["if-room"].as<bool>()) {
    wrong_usage("--if-room is for a running system", "add --live");
  }
  if (live && values.count("add-disk") != 0)
    for (const std::string& path : values["add-disk"].as<std::vector<std::string>>())
      request.add_disks.emplace_back(path, Bytes(0));
  else if (values.count("add-disk") != 0)
    for (const std::string& text : values["add-disk"].as<std::vector<std::string>>()) {
      const std::size_t equals = text.rfind('=');
      std::error_code error;
      // A file that is there already has its size: it must be blank, all of it.
      if (std::filesystem::is_regular_file(text, error) &&
          std::filesystem::file_size(text, error) != 0) {
        request.images.push_back(text);
        request.blank_disks.push_back(text);
        continue;
      }
      if (equals == std::string::npos || equals == 0)
        wrong_usage(fmt::format("\"{}\" names no file and size", text),
                    "write --add-disk FILE=SIZE");
      const Bytes size(round_up(parse_size(text.substr(equals + 1)).value(), 512));
      if (size < 4_MiB) wrong_usage("a disk of less than 4 MiB is of no use");
      request.add_disks.emplace_back(text.substr(0, equals), size);
    }
  request.new_partition = values["new-partition"].as<bool>();
  request.allow_move = values["allow-move"].as<bool>();
  return request;
}

}  // namespace

CommandLine grow_line() {
  return {"grow",
          "IMAGE... [--to SIZE | --by SIZE] [--give TARGET[=AMOUNT]]",
          "make the disk and what is in it larger",
          "Makes the disk larger, or uses room it has; all layers up to the targets follow. All or "
          "nothing.",
          "  juneheath grow heath.img --give /=rest       (room that is there already)\n"
          "  juneheath grow heath.img --by 30GiB --give /var=20GiB --give swap=1GiB --give /\n"
          "  juneheath grow --live --give /var            (the system that this runs on)\n",
          grow_options()};
}

int run_grow(CommandRun& run, const Parsed& parsed) {
  GrowRequest request = request_from(parsed);
  if (parsed.values["live"].as<bool>()) return grow_live(run, parsed, request);
  Parsed named = parsed;
  named.images = request.images;
  return run_change(run, named, request,
                    {"grow",
                     [&](const Guest& guest, const std::vector<std::string>& images) {
                       request.images = images;
                       return plan_growth(guest, request);
                     },
                     request.add_disks});
}

}  // namespace jh::cli

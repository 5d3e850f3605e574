#include "core/plan/shrink.h"

#include "cli/change_run.h"
#include "cli/commands.h"
#include "cli/options.h"

namespace jh::cli {

namespace {

po::options_description shrink_options() {
  auto own = own_options("Shrink");
  own.add_options()("to", po::value<std::string>()->value_name("SIZE|floor"),
                    "its new total size; the least there is; or floor+5GiB")(
      "by", po::value<std::string>()->value_name("SIZE"), "how much the disk loses")(
      "take", po::value<std::vector<std::string>>()->value_name("TARGET[=AMOUNT]"),
      "what becomes smaller: a target as of grow. AMOUNT: a size, or a share of what it can lose "
      "(all). nothing: only room behind the last partition")(
      "disk", po::value<std::size_t>()->value_name("N"), "which image becomes smaller (from 1)")(
      "remove-disk", po::value<std::size_t>()->value_name("N"),
      "empty it, and take it out of its group")(
      "allow-move", po::bool_switch(), "partitions may move towards the front, with their content");
  add_change_options(own, "do not ask");
  return own;
}

ShrinkRequest request_from(const Parsed& parsed) {
  const auto& values = parsed.values;
  ShrinkRequest request;
  static_cast<ChangeOptions&>(request) = change_options_from(parsed);
  request.images = parsed.images;
  request.sector_size = parsed.common.sector_size;
  if (values.count("to") != 0 && values.count("by") != 0)
    wrong_usage("--to and --by exclude each other",
                "--to names the new total, --by what is taken from it");
  if (values.count("to") != 0) {
    const std::string to = values["to"].as<std::string>();
    request.to_floor = to == "floor" || to.starts_with("floor+");
    if (!request.to_floor)
      request.to = parse_size(to);
    else if (to != "floor")
      request.margin = parse_size(to.substr(6));
  }
  if (values.count("by") != 0) request.by = parse_size(values["by"].as<std::string>());
  for (const auto& size : {request.to, request.by})
    if (size && size->value() > static_cast<std::uint64_t>(INT64_MAX))
      wrong_usage("no disk can be so large", "see: juneheath --help, SIZE");
  if (request.by && *request.by == Bytes(0)) wrong_usage("--by 0 takes nothing");
  if (values.count("take") != 0)
    for (const std::string& text : values["take"].as<std::vector<std::string>>())
      text == "nothing" ? void(request.take_nothing = true)
                        : request.takes.push_back(parse_give(text));
  if (request.take_nothing && !request.takes.empty())
    wrong_usage("\"nothing\" goes with no other target", "leave it out");
  if (values.count("disk") != 0) {
    request.disk = disk_from(parsed, "disk");
    request.disk_chosen = true;
  }
  if (values.count("remove-disk") != 0) request.remove_disk = disk_from(parsed, "remove-disk");
  request.allow_move = values["allow-move"].as<bool>();
  return request;
}

}  // namespace

CommandLine shrink_line() {
  return {"shrink",
          "IMAGE... (--to SIZE | --to floor | --by SIZE) [--take TARGET[=AMOUNT]]",
          "make the disk and what is in it smaller",
          "Makes the disk smaller, or only what is in it: filesystems, swap, volumes, groups, "
          "partitions\n"
          "and the image, from the inside out. What lies in the way moves. All of it or nothing.",
          "  juneheath shrink heath.img --to 20GiB --yes\n"
          "  juneheath shrink heath.img --to floor+5GiB\n"
          "  juneheath shrink heath.img --take /home=10GiB      (the room stays in the group)\n"
          "  juneheath shrink a.img b.img --remove-disk 2 --yes\n",
          shrink_options()};
}

int run_shrink(CommandRun& run, const Parsed& parsed) {
  ShrinkRequest request = request_from(parsed);
  return run_change(run, parsed, request,
                    {"shrink",
                     [&](const Guest& guest, const std::vector<std::string>& images) {
                       request.images = images;
                       return plan_shrink(guest, request);
                     },
                     {},
                     /*needs_yes=*/true});
}

}  // namespace jh::cli

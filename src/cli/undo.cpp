#include <fmt/format.h>

#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "cli/options.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/base/sizes.h"
#include "core/change/checks.h"
#include "core/store/transaction.h"

namespace jh::cli {
namespace {

nlohmann::json facts_json(const UndoFacts& facts, bool done) {
  nlohmann::json images = nlohmann::json::array();
  for (const auto& image : facts.images)
    images.push_back({{"image", image.path}, {"from", image.present_size}, {"to", image.old_size}});
  return {{"images", images}, {"bytes_put_back", facts.bytes_put_back}, {"done", done}};
}

void print_facts(const UndoFacts& facts) {
  std::cout << fmt::format("{} of old content are put back:\n", human(Bytes(facts.bytes_put_back)));
  for (const auto& image : facts.images)
    if (image.created)
      std::cout << fmt::format("  {}: removed; the change made it\n", image.path);
    else
      std::cout << fmt::format("  {}: from {} back to {}\n", image.path,
                               spelled_out(Bytes(image.present_size)),
                               spelled_out(Bytes(image.old_size)));
}

}  // namespace

int run_undo(const Arguments& arguments) {
  namespace po = boost::program_options;
  po::options_description own("Undo");
  own.add_options()("dry-run", po::bool_switch(), "say what would be put back, and stop")(
      "yes", po::bool_switch(), "do not ask on a terminal");
  const CommandLine line{
      "undo", "IMAGE...",
      "Takes the last change back, on all images it touched. Refused when anything was written\n"
      "since: the guest's newer data would be lost.",
      "  juneheath undo heath.img\n", own};
  const Parsed parsed = parse(line, arguments);
  if (parsed.help_shown) return 0;
  FileHost host(parsed.common.ledger_folder);
  const std::string& image = parsed.images.front();
  const UndoFacts facts = check_undo(host, image);
  const bool text = !parsed.common.json && !parsed.common.quiet;
  if (text) print_facts(facts);
  if (parsed.values["dry-run"].as<bool>()) {
    if (parsed.common.json) print_json("undo", facts_json(facts, false));
    if (text) std::cout << "This was a dry run: nothing was changed.\n";
    return 0;
  }
  std::vector<std::unique_ptr<ImageLock>> locks;
  for (const auto& touched : facts.images) {
    check_not_in_use(touched.path);
    locks.push_back(std::make_unique<ImageLock>(touched.path));
  }
  if (text && is_interactive() && !parsed.values["yes"].as<bool>() && !confirmed("Go ahead?")) {
    std::cout << "Nothing was changed.\n";
    return static_cast<int>(Status::refused);
  }
  undo(host, image);
  if (parsed.common.json) print_json("undo", facts_json(facts, true));
  if (text) std::cout << styled("Done.", Style::good) << " Every byte is as it was before.\n";
  return 0;
}

int run_recover(const Arguments& arguments) {
  const CommandLine line{
      "recover", "IMAGE...",
      "After a crash or a power cut in the middle of a change: finishes it if it was decided\n"
      "already, drops it otherwise. The image is then exactly the new or exactly the old one.",
      "  juneheath recover heath.img\n", boost::program_options::options_description("Recover")};
  const Parsed parsed = parse(line, arguments);
  if (parsed.help_shown) return 0;
  FileHost host(parsed.common.ledger_folder);
  nlohmann::json results = nlohmann::json::array();
  for (const std::string& image : parsed.images) {
    { const FileStore exists(image, Access::read_only); }
    check_not_in_use(image);
    const ImageLock lock(image);
    const char* what = "";
    switch (recover(host, image)) {
      case RecoverResult::nothing_to_do:
        what = "nothing to do";
        break;
      case RecoverResult::dropped:
        what = "dropped: the image is as it was before the change";
        break;
      case RecoverResult::finished:
        what = "finished: the change is complete";
        break;
      case RecoverResult::undone:
        what = "the undo is complete: the image is as it was";
        break;
    }
    results.push_back({{"image", image}, {"result", what}});
    if (!parsed.common.json && !parsed.common.quiet) std::cout << image << ": " << what << "\n";
  }
  if (parsed.common.json) print_json("recover", {{"results", results}});
  return 0;
}

}  // namespace jh::cli

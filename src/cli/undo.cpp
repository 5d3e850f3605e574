#include <fmt/format.h>

#include <algorithm>
#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/change_files.h"
#include "cli/commands.h"
#include "cli/options.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/base/sizes.h"
#include "core/change/recover_images.h"
#include "core/change/unfinished_image.h"

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
      std::cout << fmt::format("  {}: removed; the change made it\n", printable(image.path));
    else
      std::cout << fmt::format("  the file {}: from {} back to {}\n", printable(image.path),
                               spelled_out(Bytes(image.present_size)),
                               spelled_out(Bytes(image.old_size)));
}

// What the report shows of the images; one that cannot be opened is not drawn.
void see(CommandRun& run, const Parsed& parsed, const std::vector<std::string>& images,
         void (CommandRun::*show)(const Guest&)) {
  if (!run.reports() || images.empty()) return;
  try {
    const Session session = open_session(parsed, images);
    (run.*show)(*session.guest);
  } catch (const Error& error) {
    run.record.notes.push_back(std::string("not drawn: ") + error.what());
  }
}

// The images that an undo leaves: those that the change had made are gone.
std::vector<std::string> left_of(const UndoFacts& facts) {
  std::vector<std::string> images;
  for (const auto& image : facts.images)
    if (!image.created) images.push_back(image.path);
  return images;
}

}  // namespace

CommandLine undo_line() {
  auto own = own_options("Undo");
  own.add_options()("dry-run", po::bool_switch(), "say what would be put back, and stop")(
      "yes", po::bool_switch(), "do not ask on a terminal");
  return {
      "undo",
      "IMAGE...",
      "take the last change back",
      "Takes the last change back, on all images it touched (name all of them). Refused when\n"
      "anything it wrote or handed out was written since: the guest's newer data would be lost.",
      "  juneheath undo heath.img\n",
      own};
}

int run_undo(CommandRun& run, const Parsed& parsed) {
  FileHost host = host_for(parsed, parsed.images);
  // Somebody who is still at work on the change holds the locks.
  const auto locks = lock_all(files_of_changes(host, parsed.images));
  const UndoFacts facts = check_undo_images(host, parsed.images);
  const bool text = run.text();
  if (text) print_facts(facts);
  if (parsed.values["dry-run"].as<bool>()) {
    run.record.dry_run = true;
    run.record.document = facts_json(facts, false);
    if (text) std::cout << "This was a dry run: nothing was changed.\n";
    return 0;
  }
  if (is_interactive() && !parsed.values["yes"].as<bool>() && !confirmed("Go ahead?")) {
    if (text) std::cout << "Nothing was changed.\n";
    return static_cast<int>(Status::refused);
  }
  see(run, parsed, parsed.images, &CommandRun::record_before);
  undo_images(host, parsed.images);
  run.record.document = facts_json(facts, true);
  run.record.figures.push_back({"old content put back", facts.bytes_put_back, "bytes"});
  see(run, parsed, left_of(facts), &CommandRun::record_after);
  if (text)
    std::cout << styled("Done.", Style::good)
              << " Every byte that the change wrote is as it was before it; all others are as they "
                 "were found.\n";
  return 0;
}

namespace {

const char* word_for(RecoverResult result) {
  switch (result) {
    case RecoverResult::nothing_to_do:
      break;
    case RecoverResult::dropped:
      return "rolled back: the change was not committed; the guest sees what it saw before";
    case RecoverResult::finished:
      return "finished: the change is complete";
    case RecoverResult::undo_dropped:
      return "rolled back: the undo was not committed; the change is still in place";
    case RecoverResult::undone:
      return "finished: the undo is complete";
    case RecoverResult::forgotten:
      return "kept as it is: the record of the change was removed";
  }
  return "nothing to do";
}

void tell_recovered(CommandRun& run, const Parsed& parsed, const std::vector<Recovered>& all,
                    const std::vector<std::string>& missing) {
  nlohmann::json results = nlohmann::json::array();
  std::vector<std::string> recovered;
  for (const Recovered& done : all) {
    for (const std::string& image : done.images) {
      if (std::find(done.left.begin(), done.left.end(), image) != done.left.end()) continue;
      recovered.push_back(real_path(image));
      if (std::find(parsed.images.begin(), parsed.images.end(), image) == parsed.images.end())
        continue;
      results.push_back({{"image", image}, {"result", word_for(done.result)}});
    }
  }
  for (const std::string& image : parsed.images)
    if (std::find(recovered.begin(), recovered.end(), real_path(image)) == recovered.end())
      results.push_back({{"image", image}, {"result", word_for(RecoverResult::nothing_to_do)}});
  for (const std::string& image : missing)
    results.push_back(
        {{"image", image},
         {"result", "there is no such file; an undo removes the disk that its change had made"}});
  nlohmann::json left = nlohmann::json::array();
  for (const Recovered& done : all)
    for (const std::string& file : done.left) left.push_back(file);
  run.record.document = {{"results", results}, {"left", left}};
  for (const auto& result : results)
    run.record.notes.push_back(result["image"].get<std::string>() + ": " +
                               result["result"].get<std::string>());
  if (!run.text()) return;
  for (const auto& result : results)
    std::cout << printable(result["image"].get<std::string>()) << ": "
              << result["result"].get<std::string>() << "\n";
  for (const Recovered& done : all)
    if (done.ended_undo) std::cout << "  The change before it can no longer be taken back.\n";
  for (const auto& file : left)
    std::cout
        << "  " << printable(file.get<std::string>())
        << " was made by the change that was rolled back, and is part of nothing: remove it\n";
}

// Whether the change of another of these images wants this one, which is not there.
bool is_awaited(Host& host, const std::vector<std::string>& images, const std::string& image) {
  return std::any_of(images.begin(), images.end(), [&](const std::string& other) {
    if (other == image || !host.exists(other)) return false;
    const auto ledger = Ledger::open(host, other, /*tidy=*/false);
    if (!ledger) return false;
    return std::any_of(
        ledger->images().begin(), ledger->images().end(), [&](const Ledger::Image& each) {
          return !each.created && host.ledger_path(each.path) == host.ledger_path(image);
        });
  });
}

}  // namespace

CommandLine recover_line() {
  auto own = own_options("Recover");
  own.add_options()("keep-as-is", po::bool_switch(),
                    "leave the images as they are, and forget the change");
  return {"recover",
          "IMAGE...",
          "finish or roll back an interrupted change",
          "After a crash or a power cut in the middle of a change: finishes it if it was decided\n"
          "already, drops it otherwise. What a guest wrote since is kept, or it is refused. Of a\n"
          "change of several images, all are named.",
          "  juneheath recover heath.img\n"
          "  juneheath recover system.img data.img\n"
          "  juneheath recover heath.img --keep-as-is\n",
          own};
}

int run_recover(CommandRun& run, const Parsed& parsed) {
  FileHost host = host_for(parsed, parsed.images);
  Parsed rest = parsed;
  std::vector<Recovered> all;
  std::vector<std::string> missing;
  for (auto image = rest.images.begin(); image != rest.images.end();)
    if (const auto cleared = clear_unfinished_image(*image)) {
      if (run.text()) std::cout << printable(*image) << ": " << *cleared << "\n";
      image = host.exists(*image) ? std::next(image) : rest.images.erase(image);
    } else if (!host.exists(*image) && rest.images.size() > 1 &&
               !is_awaited(host, rest.images, *image)) {
      // An undo, cut off at its very end perhaps, had removed the disk that the change had made.
      missing.push_back(*image);
      image = rest.images.erase(image);
    } else {
      host.open(*image, Access::read_only);
      ++image;
    }
  if (!rest.images.empty()) {
    const auto locks = lock_all(files_of_changes(host, rest.images));
    const auto progress = progress_of(run);
    all = parsed.values["keep-as-is"].as<bool>()
              ? keep_images_as_they_are(host, rest.images, parsed.common.sector_size, *progress)
              : recover_images(host, rest.images);
  }
  // What leads from there to a change that is no more.
  for (const std::string& image : missing) Ledger::open(host, image, /*tidy=*/true);
  see(run, rest, rest.images, &CommandRun::record_before);
  tell_recovered(run, rest, all, missing);
  return 0;
}

}  // namespace jh::cli

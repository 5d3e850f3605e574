#include "core/compact/compact.h"

#include <fmt/format.h>

#include <algorithm>
#include <iostream>
#include <nlohmann/json.hpp>
#include <optional>

#include "cli/change_files.h"
#include "cli/change_run.h"
#include "cli/commands.h"
#include "cli/options.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/change/compact_into.h"

namespace jh::cli {

namespace {

po::options_description compact_options() {
  auto own = own_options("Compact");
  own.add_options()("into", po::value<std::string>()->value_name("OUT"),
                    "write what is used into a new image, read the old one only")(
      "form", po::value<std::string>()->value_name("FORM"),
      "of the new image: raw, qcow2, vdi, vmdk, vhd or vhdx (by its ending, or as IMAGE is)")(
      "zero-free", po::bool_switch(), "what is not used is zero afterwards, everywhere")(
      "dry-run", po::bool_switch(), "show what would be given back and stop")(
      "backup", po::value<std::string>()->value_name("FILE"), "copy the image there first")(
      "yes", po::bool_switch(), "do not ask on a terminal");
  add_share_option(own);
  return own;
}

// What the host sees of it; nothing after: it was only planned.
struct OnHost {
  std::uint64_t before = 0;
  std::optional<std::uint64_t> after;
};

nlohmann::json figures_json(const CompactFigures& figures, const OnHost& host) {
  nlohmann::json sources = nlohmann::json::array();
  for (const auto& source : figures.given_back)
    sources.push_back({{"what", source.name}, {"bytes", source.bytes}});
  return {{"length_before", figures.length_before},
          {"length_after", figures.length_after},
          {"allocated_before", host.before},
          {"allocated_after", host.after ? nlohmann::json(*host.after) : nlohmann::json()},
          {"given_back", sources},
          {"moved_within_the_file", figures.to_move},
          {"moved_by_sharing", figures.shared},
          {"notes", figures.notes}};
}

void print_sources(const CompactFigures& figures) {
  std::vector<Row> rows{{{"  what is given back", Style::dim}, {"", Style::dim, true}}};
  for (const auto& source : figures.given_back)
    rows.push_back({{"  " + source.name}, {human(Bytes(source.bytes)), Style::plain, true}});
  if (figures.given_back.empty()) rows.push_back({{"  nothing: all that is kept is used"}, {""}});
  print_table(rows);
  if (figures.to_move != 0)
    std::cout << fmt::format("    {} of what is used move to the front of the file\n",
                             human(Bytes(figures.to_move)));
  for (const std::string& note : figures.notes) print_note("Note", note);
}

void print_result(const std::string& name, const CompactFigures& figures, const OnHost& host) {
  std::cout << "\n";
  const auto size = [](std::uint64_t bytes, Style style) {
    return Cell{human(Bytes(bytes)), style, true};
  };
  std::vector<Row> rows{{{"  " + name, Style::heading},
                         {"before", Style::dim, true},
                         {"after", Style::dim, true},
                         {"less by", Style::dim, true}}};
  const auto add = [&](const char* what, std::uint64_t before, std::uint64_t after) {
    rows.push_back({{what},
                    size(before, Style::plain),
                    size(after, Style::heading),
                    size(before > after ? before - after : 0, Style::good)});
  };
  add("  length of the file", figures.length_before, figures.length_after);
  if (host.after) add("  in use on the host", host.before, *host.after);
  print_table(rows);
  if (figures.shared != 0)
    std::cout << "    " << moved_text({figures.shared, figures.to_move - figures.shared}) << "\n";
}

// For the report: what became of the file.
void note(CommandRun& run, std::size_t index, const CompactFigures& figures, bool planned) {
  if (index == 0) run.record.figures.clear();
  for (const auto& source : figures.given_back)
    run.record.figures.push_back({source.name, source.bytes, "bytes"});
  if (figures.to_move != 0)
    run.record.figures.push_back({"moved to the front of the file", figures.to_move, "bytes"});
  run.record.notes.insert(run.record.notes.end(), figures.notes.begin(), figures.notes.end());
  if (planned || index >= run.record.files.size()) return;
  const std::string& image = figures.files.front();
  FileHost host;
  HostFileResolver resolver(host);
  const auto file = host.open(image, Access::read_only);
  const Guest now({{image, file.get(), false, &resolver}});
  NullProgress silent;
  run.record.files[index].after = occupancy_of(now, 0, allocated_on_host(figures.files), silent);
}

}  // namespace

CommandLine compact_line() {
  return {
      "compact",
      "IMAGE... [--into OUT]",
      "the same disk in a smaller file",
      "The same disk in a smaller file: free blocks of filesystems, free "
      "extents, swap, gaps between\n"
      "partitions, zeros, and what the image's parent holds as well give their room back. Nothing\n"
      "is done inside the guest before. In place in sealed steps, each of which leaves a sound\n"
      "image; there is no undo.",
      "  juneheath compact heath.qcow2 --dry-run\n"
      "  juneheath compact heath.qcow2\n"
      "  juneheath compact heath.img --into small.img\n",
      compact_options()};
}

int run_compact(CommandRun& run, const Parsed& parsed) {
  ChangeOptions options;
  options.into_copy = parsed.values.count("into") != 0;
  options.format = format_from(parsed);
  const bool dry_run = parsed.values["dry-run"].as<bool>();
  const bool text = run.text();
  FileHost host = host_for(parsed, parsed.images);
  check_no_unfinished_change(host, parsed.images);
  if (options.into_copy && parsed.images.size() > 1)
    wrong_usage("--into takes one image", "compact the disks of the guest one by one");
  check_output_names(parsed);
  const Locks locks = lock_images(host, parsed.images, options, dry_run);
  check_no_unfinished_change(host, parsed.images);
  const Session session =
      failing_with(Outcome::unchanged, [&] { return open_session(parsed, parsed.images); });
  const Guest& guest = *session.guest;
  std::vector<OnHost> on_host;
  for (const Disk& disk : guest.disks()) on_host.push_back({allocated_on_host(files_of(disk)), {}});
  run.record_before(guest);
  const auto told = progress_of(run);
  Progress& progress = *told;
  run.record.dry_run = dry_run;
  if (run.reports())
    for (std::size_t i = 0; i < guest.disks().size(); ++i)
      run.record.files.push_back({occupancy_of(guest, i, on_host[i].before, progress), {}});
  nlohmann::json documents = nlohmann::json::array();
  const auto report = [&](std::size_t i, const CompactFigures& figures, bool planned) {
    OnHost host_view = on_host[i];
    if (!planned) host_view.after = allocated_on_host(figures.files);
    // A raw image stays as long as it is: what it gives back is the host's at once.
    std::uint64_t given = 0;
    for (const auto& source : figures.given_back) given += source.bytes;
    if (planned && figures.length_after == figures.length_before)
      host_view.after = host_view.before - std::min(host_view.before, given);
    documents.push_back(figures_json(figures, host_view));
    note(run, i, figures, planned);
    if (!text) return;
    if (i != 0) std::cout << "\n";
    if (!options.into_copy || planned) print_sources(figures);
    print_result(
        options.into_copy && !planned ? parsed.values["into"].as<std::string>() : parsed.images[i],
        figures, host_view);
  };
  const bool asks = is_interactive() && !parsed.values["yes"].as<bool>();
  if (dry_run || asks) {
    for (std::size_t i = 0; i < parsed.images.size(); ++i)
      report(
          i,
          failing_with(Outcome::unchanged, [&] { return plan_compact(host, guest, i, progress); }),
          true);
    if (dry_run) {
      run.record.document = {{"done", false}, {"images", documents}};
      if (text) std::cout << "\n  This was a dry run: nothing was changed.\n";
      return 0;
    }
    if (!confirmed("\n  Go ahead? There is no undo.")) {
      if (text) std::cout << "  Nothing was changed.\n";
      return static_cast<int>(Status::refused);
    }
    documents.clear();  // what was planned; what was done follows
  }
  make_backup(run, parsed, guest, options.proof, progress);
  for (std::size_t i = 0; i < parsed.images.size(); ++i) {
    if (options.into_copy) {
      UnfinishedImage fresh(parsed.values["into"].as<std::string>());
      const SourceWatch source(all_files(host, {parsed.images[i]}, /*with_parents=*/true));
      CompactFigures figures = compact_into(host, guest, i, fresh.path(), options.format,
                                            sharing_from(parsed), progress);
      source.check();
      figures.files.erase(figures.files.begin());
      fresh.finish(figures.files);
      for (std::string& file : figures.files) file = fresh.place_of(file);
      figures.files.insert(figures.files.begin(), fresh.out());
      report(i, figures, false);
      note_copy(run, fresh.out(), "new image", figures.content);
    } else {
      try {
        // The disk before this one may keep a part of what lies on this one, and has moved it.
        const Session again = i == 0 ? Session() : open_session(parsed, parsed.images);
        const Guest& now = i == 0 ? guest : *again.guest;
        report(i,
               compact_in_place(host, now, i, parsed.values["zero-free"].as<bool>(),
                                sharing_from(parsed), progress),
               false);
      } catch (const Error& error) {
        // The disks before this one are done.
        if (i == 0 || error.outcome() != Outcome::unchanged) throw;
        throw error.with_outcome(Outcome::sound);
      }
    }
  }
  run.record.changed = true;
  run.record.document = {{"done", true}, {"images", documents}};
  return 0;
}

}  // namespace jh::cli

#include "core/change/recast.h"

#include <fmt/format.h>

#include <iostream>
#include <nlohmann/json.hpp>

#include "cli/change_files.h"
#include "cli/change_run.h"
#include "cli/commands.h"
#include "cli/options.h"
#include "cli/session.h"
#include "cli/terminal.h"
#include "core/base/uuid.h"
#include "core/change/unfinished_image.h"
#include "core/plan/plan.h"

namespace jh::cli {

namespace {

po::options_description recast_options() {
  auto own = own_options("Recast");
  own.add_options()("form", po::value<std::string>()->value_name("FORM"),
                    "raw, qcow2, vdi, vmdk, vhd or vhdx (by NEW's ending, or as IMAGE is)")(
      "store", po::value<std::string>()->value_name("HOW"),
      "sparse: what is zero takes no room; full: all of the room is taken now; packed: compressed "
      "(qcow2, vmdk)")("pieces", po::bool_switch(), "a VMDK disk in files of two gigabytes")(
      "adapter", po::value<std::string>()->value_name("NAME"),
      "the controller of a VMDK disk: ide, lsilogic or buslogic (as IMAGE has it, or ide)")(
      "proof", po::value<std::string>()->default_value("usual")->value_name("HOW"),
      "usual, or full: read everything back and compare")("dry-run", po::bool_switch(),
                                                          "show what would be done and stop");
  add_share_option(own);
  return own;
}

Allocation keeping_from(const std::string& text) {
  for (const Allocation allocation : {Allocation::sparse, Allocation::full, Allocation::compressed})
    if (text == allocation_name(allocation)) return allocation;
  wrong_usage(fmt::format("--store {} is not known", text), "use sparse, full or packed");
}

std::string describe(ImageFormat format, Allocation allocation) {
  return fmt::format("{}, {}", format_name(format), allocation_name(allocation));
}

std::string planned_transfer_text(const RecastPlan& plan) {
  if (plan.transfer.shared == 0) return human(Bytes(plan.bytes_to_read)) + " would be read";
  return fmt::format("{} would be shared, {} copied", human(Bytes(plan.transfer.shared)),
                     human(Bytes(plan.transfer.copied)));
}

// Without a new image: the same one is kept in another way.
int recast_here(CommandRun& run, const Parsed& parsed) {
  const std::string& image = parsed.images[0];
  const Allocation allocation = keeping_from(parsed.values["store"].as<std::string>());
  const bool text = run.text();
  FileHost host = host_for(parsed, {parsed.images[0]});
  const Locks locks = lock_all({image});
  if (parsed.values["dry-run"].as<bool>())
    wrong_usage("a change of how an image is kept has no dry run",
                "see: juneheath survey " + image);
  const std::uint64_t before = allocated_on_host({image});
  const auto progress = progress_of(run);
  const InPlaceResult result = recast_in_place(host, image, allocation, *progress);
  const std::uint64_t after = allocated_on_host({image});
  run.record.changed = true;
  run.record.document = {{"done", true},
                         {"store", allocation_name(allocation)},
                         {"allocated_before", before},
                         {"allocated_on_host", after}};
  run.record.figures = {{"on the host before", before, "bytes"},
                        {"on the host now", after, "bytes"}};
  if (result.undoable) run.record.way_back = undo_command(parsed, {image});
  if (!text) return 0;
  std::cout << fmt::format("  {} is {} now: the host gives it {}, before it was {}\n",
                           printable(image), allocation_name(allocation), human(Bytes(after)),
                           human(Bytes(before)));
  if (allocation == Allocation::sparse)
    std::cout << "  What the guest has free may still be kept; what giving that back would save:\n"
              << "      "
              << styled("juneheath compact " + shell_word(image) + " --dry-run", Style::command)
              << "\n";
  if (result.undoable)
    std::cout << "  To take it back, as long as the guest has not been started:\n      "
              << styled(run.record.way_back, Style::command) << "\n";
  return 0;
}

}  // namespace

CommandLine recast_line() {
  return {
      "recast",
      "IMAGE NEW [--form FORM] [--store sparse|full|packed]",
      "the same disk in a new image, of any form",
      "Writes the disk that the guest sees into a new image, of the same or another form: parents\n"
      "are merged, snapshots left behind. IMAGE is only read. Where the host can, the two share\n"
      "their blocks, so that nothing is copied. Without NEW, a raw, VDI or VHDX image becomes\n"
      "sparse or full in place.",
      "  juneheath recast heath.vmdk heath.qcow2\n"
      "  juneheath recast heath.img heath.vhd --store full\n"
      "  juneheath recast overlay.qcow2 whole.qcow2 --store packed\n",
      recast_options()};
}

int run_recast(CommandRun& run, const Parsed& parsed) {
  RecastRequest request;
  request.image = parsed.images[0];
  if (parsed.images.size() == 1 && parsed.values.count("store") != 0 &&
      parsed.values.count("form") == 0)
    return recast_here(run, parsed);
  if (parsed.images.size() != 2)
    wrong_usage("recast takes an image and the name of the new one",
                "write: juneheath recast IMAGE NEW; or recast IMAGE --store sparse|full");
  request.out = parsed.images[1];
  check_name_is_free(request.out);
  request.format = format_from(parsed);
  if (parsed.values.count("store") != 0)
    request.allocation = keeping_from(parsed.values["store"].as<std::string>());
  // Who asks for it wants zeros found; else what the host can share is not read at all.
  request.find_zeros = request.allocation == Allocation::sparse;
  request.sharing = sharing_from(parsed);
  if (parsed.values.count("adapter") != 0) {
    request.adapter = parsed.values["adapter"].as<std::string>();
    if (!is_adapter(request.adapter))
      wrong_usage(fmt::format("--adapter {} is not known", request.adapter),
                  "use ide, lsilogic or buslogic");
  }
  request.in_pieces = parsed.values["pieces"].as<bool>();
  request.proof = proof_from(parsed);

  FileHost host = host_for(parsed, {parsed.images[0]});
  const std::vector<std::string> sources = all_files(host, {request.image}, /*with_parents=*/true);
  const Locks locks = lock_for_reading(sources);
  const SourceWatch source(sources);
  const auto file = host.open(request.image, Access::read_only);
  HostFileResolver resolver(host);
  const auto from = open_container(*file, &resolver);
  std::vector<std::string> sleeping;
  request.sector_size = parsed.common.sector_size;
  if (!from->facts().encrypted) {
    const Session session = open_session(parsed, {request.image});
    run.record_before(*session.guest);
    const Disk& disk = session.guest->disks().front();
    if (disk.table) request.sector_size = disk.table->facts().sector_size;
    for (const Error& sleeper : session.guest->asleep())
      sleeping.push_back(std::string(sleeper.what()) +
                         ": start only one of the two images, and change neither before");
  }
  RecastPlan plan =
      failing_with(Outcome::unchanged, [&] { return plan_recast(host, *from, request); });
  plan.notes.insert(plan.notes.end(), sleeping.begin(), sleeping.end());
  const bool text = run.text();
  if (text) {
    std::cout << fmt::format(
        "  {} ({}) becomes {} ({})\n", printable(request.image),
        describe(plan.from.format,
                 allocation_on_host(plan.from, allocated_on_host({request.image}))),
        printable(request.out), describe(plan.to.format, plan.to.allocation));
    std::cout << fmt::format("  the guest sees {}\n", spelled_out(plan.to.disk_size));
    if (!plan.from.parents.empty())
      std::cout << fmt::format("  merged with what it builds on: {}\n",
                               printable(fmt::format("{}", fmt::join(plan.from.parents, ", "))));
    if (!plan.from.snapshots.empty())
      std::cout << fmt::format("  the present state only: {} snapshot{} left behind\n",
                               plan.from.snapshots.size(),
                               plan.from.snapshots.size() == 1 ? " is" : "s are");
    for (const std::string& note : plan.notes) std::cout << "  " << printable(note) << "\n";
  }
  if (parsed.values["dry-run"].as<bool>()) {
    if (text)
      std::cout << fmt::format("\n  {}. This was a dry run: nothing was written.\n",
                               planned_transfer_text(plan));
    run.record.dry_run = true;
    run.record.document = {{"done", false},
                           {"bytes_to_read", plan.bytes_to_read},
                           {"shared", plan.transfer.shared},
                           {"copied", plan.transfer.copied}};
    return 0;
  }
  const auto progress = progress_of(run);
  UnfinishedImage fresh(request.out);
  const std::vector<std::string> parts = plan.parts;
  request.out = fresh.path();
  for (std::string& part : plan.parts) part = fresh.inside(part);
  const Transferred content = carry_out_recast(host, *from, plan, request, *progress);
  source.check();
  fresh.finish(plan.parts);
  std::vector<std::string> files = parts;
  files.push_back(fresh.out());
  std::uint64_t length = 0;
  for (const std::string& path : files) length += host.open(path, Access::read_only)->size();
  const std::uint64_t allocated = allocated_on_host(files);
  const std::uint64_t allocated_before = allocated_on_host({request.image});
  run.record.changed = true;
  run.record.document = {{"done", true},
                         {"form", format_name(plan.to.format)},
                         {"store", allocation_name(plan.to.allocation)},
                         {"disk_size", plan.to.disk_size.value()},
                         {"parts", parts},
                         {"file_length", length},
                         {"allocated_on_host", allocated}};
  run.record.way_back = "rm " + shell_word(fresh.out());
  if (!parts.empty()) run.record.way_back += " " + shell_words(parts);
  run.record.figures = {{"length of the old image", plan.from.file_length.value(), "bytes"},
                        {"length of the new one", length, "bytes"},
                        {"the old one on the host", allocated_before, "bytes"},
                        {"the new one on the host", allocated, "bytes"}};
  if (run.reports()) run.record_after(*open_session(parsed, {fresh.out()}).guest);
  note_copy(run, fresh.out(), "new image", content);
  if (!text) return 0;
  std::cout << "\n";
  print_table({{{"", Style::dim}, {"file", Style::dim, true}, {"on the host", Style::dim, true}},
               {{request.image},
                {human(plan.from.file_length), Style::plain, true},
                {human(Bytes(allocated_before)), Style::plain, true}},
               {{fresh.out(), Style::good},
                {human(Bytes(length)), Style::plain, true},
                {human(Bytes(allocated)), Style::plain, true}}});
  constexpr std::size_t few = 4;
  for (std::size_t i = 0; i < std::min(few, parts.size()); ++i)
    std::cout << "  with " << printable(parts[i]) << "\n";
  if (parts.size() > few)
    std::cout << fmt::format("  and {} more, up to {}\n", parts.size() - few,
                             printable(parts.back()));
  return 0;
}

}  // namespace jh::cli

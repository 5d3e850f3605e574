#include "cli/change_files.h"

#include <fmt/format.h>

#include <filesystem>
#include <iostream>

#include "cli/session.h"
#include "cli/terminal.h"
#include "core/plan/plan.h"
#include "core/store/copy.h"

namespace jh::cli {
namespace {

// "backup" for one image, "backup.1" and so on for several.
std::string numbered(const std::string& base, std::size_t index, std::size_t count) {
  return count == 1 ? base : fmt::format("{}.{}", base, index + 1);
}

void compare_files(Host& host, const std::string& file, const std::string& copy,
                   Progress& progress) {
  constexpr std::uint64_t piece = 1U << 20;
  const auto from = host.open(file, Access::read_only);
  const auto to = host.open(copy, Access::read_only);
  progress.begin("comparing " + copy, from->size());
  for (std::uint64_t at = 0; at < from->size(); at += piece) {
    const std::uint64_t length = std::min(piece, from->size() - at);
    if (from->map(at, length).length == length && from->map(at, length).zero &&
        to->map(at, length).length == length && to->map(at, length).zero)
      continue;
    if (read_buffer(*from, at, length) != read_buffer(*to, at, length))
      io_failed(fmt::format("the backup differs from the image near byte {}", at), copy,
                "look at the host's disk; nothing was changed");
    progress.advance(at);
  }
  progress.end();
}

// What the change relies on is proven to be there.
void check_backup(const Disk& disk, const std::vector<std::string>& files,
                  const std::vector<std::string>& copies, ProofEffort effort, Progress& progress) {
  FileHost host;
  for (std::size_t i = 0; i < files.size(); ++i) {
    if (host.open(files[i], Access::read_only)->size() !=
        host.open(copies[i], Access::read_only)->size())
      io_failed("the backup has another length than the image", copies[i],
                "look at the host's disk; nothing was changed");
    if (effort == ProofEffort::full) compare_files(host, files[i], copies[i], progress);
  }
  // One that builds on others is found whole only beside them.
  if (!disk.container->facts().parents.empty()) return;
  HostFileResolver resolver(host);
  const auto copy = host.open(copies.front(), Access::read_only);
  if (open_container(*copy, &resolver)->disk().size() != disk.size().value())
    io_failed("the backup shows a disk of another size", copies.front(),
              "look at the host's disk; nothing was changed");
}

}  // namespace

std::string transfer_text(const Transferred& content) {
  if (content.shared == 0) return human(Bytes(content.copied)) + " copied";
  const std::string shared = human(Bytes(content.shared)) + " shared with the image";
  return content.copied == 0 ? shared + ", nothing copied"
                             : fmt::format("{}, {} copied", shared, human(Bytes(content.copied)));
}

std::string moved_text(const Transferred& moved) {
  return fmt::format("{} moved by sharing blocks of the host, {} copied",
                     human(Bytes(moved.shared)), human(Bytes(moved.copied)));
}

void add_share_option(po::options_description& own) {
  own.add_options()("share", po::value<std::string>()->default_value("auto")->value_name("HOW"),
                    "auto: share the host's blocks where it can; never: copy");
}

Sharing sharing_from(const Parsed& parsed) {
  const std::string how = parsed.values["share"].as<std::string>();
  if (how != "auto" && how != "never")
    wrong_usage(fmt::format("--share {} is not known", how), "use auto or never");
  return how == "auto" ? Sharing::automatic : Sharing::never;
}

void note_copy(CommandRun& run, const std::string& path, const std::string& purpose,
               const Transferred& content) {
  run.record.copies.push_back({path, purpose, content});
  if (!run.text()) return;
  std::cout << fmt::format("  {} ({}): {}\n", printable(path), purpose, transfer_text(content));
}

void make_backup(CommandRun& run, const Parsed& parsed, const Guest& guest, ProofEffort effort,
                 Progress& progress) {
  if (parsed.values.count("backup") == 0) return;
  const std::string base = parsed.values["backup"].as<std::string>();
  for (std::size_t i = 0; i < parsed.images.size(); ++i) {
    const std::string to = numbered(base, i, parsed.images.size());
    const std::vector<std::string> files = files_of(guest.disks()[i]);
    UnfinishedImage copy(to);
    std::vector<std::string> copies;
    Transferred content;
    for (const std::string& file : files) {
      // Several files name each other: they keep their names, in a folder of their own.
      copies.push_back(files.size() == 1 ? copy.path() : copy.inside(file));
      content += copy_image(file, copies.back(), sharing_from(parsed), progress);
    }
    check_backup(guest.disks()[i], files, copies, effort, progress);
    files.size() == 1 ? copy.finish() : copy.finish_as_folder();
    note_copy(run, to, "backup", content);
  }
}

CopyPlan Copies::plan_one(const std::string& image, const std::string& out,
                          std::optional<ImageFormat> format) {
  const auto file = host_.open(image, Access::read_only);
  HostFileResolver resolver(host_);
  return plan_copy(host_, *open_container(*file, &resolver), image, out, format, sharing_);
}

std::vector<CopyPlan> Copies::plan(const std::vector<std::string>& images, const std::string& base,
                                   std::optional<ImageFormat> format) {
  std::vector<CopyPlan> plans;
  for (std::size_t i = 0; i < images.size(); ++i)
    plans.push_back(plan_one(images[i], numbered(base, i, images.size()), format));
  return plans;
}

std::vector<std::string> Copies::make(const std::vector<std::string>& images,
                                      const std::string& base, std::optional<ImageFormat> format,
                                      Progress& progress) {
  std::vector<std::string> paths;
  for (std::size_t i = 0; i < images.size(); ++i) {
    made_.push_back(std::make_unique<UnfinishedImage>(numbered(base, i, images.size())));
    paths.push_back(made_.back()->path());
    const CopyMade copy = make_copy(host_, plan_one(images[i], paths.back(), format), progress);
    made_.back()->check_places(copy.files);
    content_ += copy.content;
  }
  return paths;
}

std::vector<std::string> Copies::keep() {
  // What was made here leads only to what was made here.
  FileHost host;
  std::vector<std::string> paths;
  for (const auto& made : made_) {
    std::vector<std::string> files = all_files(host, {made->path()});
    files.erase(files.begin());
    made->finish(files);
    paths.push_back(made->out());
  }
  made_.clear();
  return paths;
}

void check_output_names(const Parsed& parsed,
                        const std::vector<std::pair<std::string, Bytes>>& added) {
  for (const char* option : {"backup", "into"})
    if (parsed.values.count(option) != 0)
      check_name_is_free(parsed.values[option].as<std::string>());
  for (const auto& [path, size] : added) check_name_is_free(path);
}

std::string undo_command(const Parsed& parsed, const std::vector<std::string>& images) {
  Suggestion command = suggest("undo", images);
  // A ledger that is kept elsewhere is looked for there.
  if (parsed.values.count("ledger-dir") != 0 && !parsed.values["ledger-dir"].defaulted())
    command.with("ledger-dir", parsed.common.ledger_folder);
  return command_text(command);
}

}  // namespace jh::cli

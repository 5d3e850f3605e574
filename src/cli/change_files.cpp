#include "cli/change_files.h"

#include <fmt/format.h>

#include <filesystem>
#include <iostream>

#include "cli/session.h"
#include "cli/terminal.h"
#include "core/carry/dependents.h"
#include "core/change/recast.h"
#include "core/plan/plan.h"
#include "core/store/copy.h"

namespace jh::cli {
namespace {

// "backup" for one image, "backup.1" and so on for several.
std::string numbered(const std::string& base, std::size_t index, std::size_t count) {
  return count == 1 ? base : fmt::format("{}.{}", base, index + 1);
}

}  // namespace

std::vector<std::string> all_files(Host& host, const std::vector<std::string>& images,
                                   bool with_parents) {
  HostFileResolver resolver(host);
  std::vector<std::string> files;
  for (const std::string& image : images) {
    files.push_back(image);
    FileStore file(image, Access::read_only);
    const auto container = open_container(file, &resolver);
    const ContainerFacts facts = container->facts();
    files.insert(files.end(), facts.parts.begin(), facts.parts.end());
    if (with_parents) files.insert(files.end(), facts.parents.begin(), facts.parents.end());
  }
  return files;
}

namespace {

void check_all(const std::vector<std::string>& files, LockKind kind, bool are_ours) {
  for (const std::string& file : files)
    kind == LockKind::changing ? check_not_in_use(file, are_ours)
                               : check_not_written_elsewhere(file);
}

// Looked at again behind the locks: somebody may have come in between.
Locks locked(const std::vector<std::string>& files, LockKind checked, LockKind held) {
  check_all(files, checked, /*are_ours=*/false);
  if (checked == LockKind::changing) check_no_dependents(files);
  Locks locks;
  for (const std::string& file : files) locks.push_back(std::make_unique<ImageLock>(file, held));
  check_all(files, checked, /*are_ours=*/true);
  return locks;
}

}  // namespace

Locks lock_all(const std::vector<std::string>& files) {
  return locked(files, LockKind::changing, LockKind::changing);
}

std::vector<Error> host_blockers(Host& host, const std::vector<std::string>& images) {
  std::vector<Error> found;
  const auto note = [&](const auto& check) {
    try {
      check();
    } catch (const Error& error) {
      if (error.status() == Status::refused) found.push_back(error);
    }
  };
  std::vector<std::string> files = images;
  note([&] { files = all_files(host, images); });
  note([&] { check_no_unfinished_change(host, images); });
  for (const std::string& file : files) note([&] { check_not_in_use(file); });
  note([&] { check_no_dependents(files); });
  return found;
}

Locks lock_for_reading(const std::vector<std::string>& files) {
  return locked(files, LockKind::reading, LockKind::reading);
}

Locks lock_images(Host& host, const std::vector<std::string>& images, const ChangeOptions& options,
                  bool dry_run) {
  for (std::size_t i = 0; i < images.size(); ++i)
    for (std::size_t j = 0; j < i; ++j)
      if (host.exists(images[i]) && host.exists(images[j]) &&
          host.identity(images[i]) == host.identity(images[j]))
        wrong_usage("the same image is named twice: " + images[i]);
  const std::vector<std::string> files = all_files(host, images, options.into_copy);
  if (options.into_copy) return lock_for_reading(files);
  // What would be in the way of the change is in the way of its dry run.
  return locked(files, LockKind::changing, dry_run ? LockKind::reading : LockKind::changing);
}

namespace {

void compare_files(const std::string& file, const std::string& copy, Progress& progress) {
  constexpr std::uint64_t piece = 1U << 20;
  FileStore from(file, Access::read_only);
  FileStore to(copy, Access::read_only);
  progress.begin("comparing " + copy, from.size());
  for (std::uint64_t at = 0; at < from.size(); at += piece) {
    const std::uint64_t length = std::min(piece, from.size() - at);
    if (from.map(at, length).length == length && from.map(at, length).zero &&
        to.map(at, length).length == length && to.map(at, length).zero)
      continue;
    if (read_buffer(from, at, length) != read_buffer(to, at, length))
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
    if (FileStore(files[i], Access::read_only).size() !=
        FileStore(copies[i], Access::read_only).size())
      io_failed("the backup has another length than the image", copies[i],
                "look at the host's disk; nothing was changed");
    if (effort == ProofEffort::full) compare_files(files[i], copies[i], progress);
  }
  // One that builds on others is found whole only beside them.
  if (!disk.container->facts().parents.empty()) return;
  HostFileResolver resolver(host);
  FileStore copy(copies.front(), Access::read_only);
  if (open_container(copy, &resolver)->disk().size() != disk.size().value())
    io_failed("the backup shows a disk of another size", copies.front(),
              "look at the host's disk; nothing was changed");
}

}  // namespace

void make_backup(const Parsed& parsed, const Guest& guest, ProofEffort effort, Progress& progress) {
  if (parsed.values.count("backup") == 0) return;
  const std::string base = parsed.values["backup"].as<std::string>();
  for (std::size_t i = 0; i < parsed.images.size(); ++i) {
    const std::string to = numbered(base, i, parsed.images.size());
    const std::vector<std::string> files = files_of(guest.disks()[i]);
    UnfinishedImage copy(to);
    std::vector<std::string> copies;
    for (const std::string& file : files) {
      // Several files name each other: they keep their names, in a folder of their own.
      copies.push_back(files.size() == 1 ? copy.path() : copy.inside(file));
      copy_image(file, copies.back(), progress);
    }
    check_backup(guest.disks()[i], files, copies, effort, progress);
    files.size() == 1 ? copy.finish() : copy.finish_as_folder();
    if (!parsed.common.quiet && !parsed.common.json)
      std::cout << "  Copied to " << printable(to) << "\n";
  }
}

std::vector<std::string> Copies::make(const std::vector<std::string>& images,
                                      const std::string& base, std::optional<ImageFormat> format,
                                      Progress& progress) {
  std::vector<std::string> paths;
  for (std::size_t i = 0; i < images.size(); ++i) {
    made_.push_back(std::make_unique<UnfinishedImage>(numbered(base, i, images.size())));
    paths.push_back(made_.back()->path());
    made_.back()->check_places(copy_disk(host_, images[i], paths.back(), format, progress));
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
  std::string command = "juneheath undo " + shell_words(images);
  // A ledger that is kept elsewhere is looked for there.
  if (parsed.values.count("ledger-dir") != 0 && !parsed.values["ledger-dir"].defaulted())
    command += " --ledger-dir " + shell_word(parsed.common.ledger_folder);
  return command;
}

}  // namespace jh::cli

#include "cli/change_files.h"

#include <fmt/format.h>

#include <filesystem>
#include <iostream>

#include "core/change/plan.h"
#include "core/change/recast.h"
#include "core/store/copy.h"

namespace jh::cli {
namespace {

// "backup" for one image, "backup.1" and so on for several.
std::string numbered(const std::string& base, std::size_t index, std::size_t count) {
  return count == 1 ? base : fmt::format("{}.{}", base, index + 1);
}

}  // namespace

std::vector<std::unique_ptr<ImageLock>> lock_images(const Guest& guest,
                                                    const ChangeOptions& options) {
  std::vector<std::unique_ptr<ImageLock>> locks;
  for (const Disk& disk : guest.disks()) {
    if (disk.added) continue;
    for (const std::string& file : files_of(disk)) {
      if (options.into_copy) {
        check_not_written_elsewhere(file);
        continue;
      }
      check_not_in_use(file);
      locks.push_back(std::make_unique<ImageLock>(file));
    }
  }
  return locks;
}

void make_backup(const Parsed& parsed, const Guest& guest, Progress& progress) {
  if (parsed.values.count("backup") == 0) return;
  const std::string base = parsed.values["backup"].as<std::string>();
  for (std::size_t i = 0; i < parsed.images.size(); ++i) {
    const std::string to = numbered(base, i, parsed.images.size());
    const std::vector<std::string> files = files_of(guest.disks()[i]);
    if (files.size() == 1) {
      copy_image(files.front(), to, progress);
    } else {
      // The files name each other: they keep their names, in a folder of their own.
      if (std::filesystem::exists(to))
        refuse("the backup's name is taken already", to, "choose another name, or move it away");
      std::filesystem::create_directory(to);
      for (const std::string& file : files)
        copy_image(file,
                   (std::filesystem::path(to) / std::filesystem::path(file).filename()).string(),
                   progress);
    }
    if (!parsed.common.quiet && !parsed.common.json) std::cout << "  Copied to " << to << "\n";
  }
}

Copies::~Copies() {
  if (keep_) return;
  for (const std::string& file : made_) remove_quietly(host_, file);
}

std::vector<std::string> Copies::make(const std::vector<std::string>& images,
                                      const std::string& base, Progress& progress) {
  std::vector<std::string> paths;
  for (std::size_t i = 0; i < images.size(); ++i) {
    paths.push_back(numbered(base, i, images.size()));
    for (const std::string& file : copy_disk(host_, images[i], paths.back(), progress))
      made_.push_back(file);
  }
  return paths;
}

std::string undo_command(const std::vector<std::string>& images) {
  std::string command = "juneheath undo";
  for (const std::string& image : images) command += " " + shell_word(image);
  return command;
}

}  // namespace jh::cli

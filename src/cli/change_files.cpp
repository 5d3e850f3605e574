#include "cli/change_files.h"

#include <fmt/format.h>

#include <filesystem>
#include <iostream>

#include "cli/terminal.h"
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

std::vector<std::string> all_files(Host& host, const std::vector<std::string>& images) {
  HostNeighbours beside(host);
  std::vector<std::string> files;
  for (const std::string& image : images) {
    files.push_back(image);
    FileStore file(image, Access::read_only);
    const auto container = open_container(file, &beside);
    const auto parts = container->facts().parts;
    files.insert(files.end(), parts.begin(), parts.end());
  }
  return files;
}

Locks lock_all(const std::vector<std::string>& files) {
  Locks locks;
  for (const std::string& file : files) {
    check_not_in_use(file);
    locks.push_back(std::make_unique<ImageLock>(file));
  }
  return locks;
}

Locks lock_images(Host& host, const std::vector<std::string>& images,
                  const ChangeOptions& options) {
  for (std::size_t i = 0; i < images.size(); ++i)
    for (std::size_t j = 0; j < i; ++j)
      if (host.exists(images[i]) && host.exists(images[j]) &&
          host.identity(images[i]) == host.identity(images[j]))
        wrong_usage("the same image is named twice: " + images[i]);
  const std::vector<std::string> files = all_files(host, images);
  if (!options.into_copy) return lock_all(files);
  for (const std::string& file : files) check_not_written_elsewhere(file);
  return {};
}

void make_backup(const Parsed& parsed, const Guest& guest, Progress& progress) {
  if (parsed.values.count("backup") == 0) return;
  const std::string base = parsed.values["backup"].as<std::string>();
  for (std::size_t i = 0; i < parsed.images.size(); ++i) {
    const std::string to = numbered(base, i, parsed.images.size());
    const std::vector<std::string> files = files_of(guest.disks()[i]);
    if (files.size() == 1) {
      UnfinishedImage copy(to);
      copy_image(files.front(), copy.path(), progress);
      copy.finish();
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
    if (!parsed.common.quiet && !parsed.common.json)
      std::cout << "  Copied to " << printable(to) << "\n";
  }
}

std::vector<std::string> Copies::make(const std::vector<std::string>& images,
                                      const std::string& base, Progress& progress) {
  std::vector<std::string> paths;
  for (std::size_t i = 0; i < images.size(); ++i) {
    made_.push_back(std::make_unique<UnfinishedImage>(numbered(base, i, images.size())));
    paths.push_back(made_.back()->path());
    made_.back()->check_places(copy_disk(host_, images[i], paths.back(), progress));
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

std::string undo_command(const std::vector<std::string>& images) {
  return "juneheath undo " + shell_words(images);
}

}  // namespace jh::cli

#include "core/guest/many_files.h"

#include <algorithm>
#include <filesystem>

namespace jh {

bool looks_like_disk(const Guest& guest) {
  const Disk& disk = guest.disks().front();
  if (disk.container->facts().format != ImageFormat::raw || disk.table || disk.trouble) return true;
  return std::any_of(disk.layers.begin(), disk.layers.end(), [](const Layer& layer) {
    return layer.content.kind == ContentKind::filesystem ||
           layer.content.kind == ContentKind::physical_volume ||
           layer.content.kind == ContentKind::array_member ||
           layer.content.kind == ContentKind::encrypted;
  });
}

std::vector<std::string> files_below(const std::vector<std::string>& paths) {
  namespace files = std::filesystem;
  std::vector<std::string> found;
  const auto add = [&](const files::path& path) {
    const std::string name = path.string();
    if (name.ends_with(".juneheath") || name.ends_with(".juneheath.open")) return;
    found.push_back(name);
  };
  for (const std::string& path : paths) {
    std::error_code error;
    if (!files::is_directory(path, error)) {
      if (!files::exists(path, error)) io_failed("there is no such file or folder", path);
      add(path);
      continue;
    }
    files::recursive_directory_iterator walk(path, files::directory_options::skip_permission_denied,
                                             error);
    if (error) io_failed("the folder cannot be read: " + error.message(), path);
    for (; walk != files::recursive_directory_iterator(); walk.increment(error)) {
      if (error) io_failed("the folder cannot be read: " + error.message(), path);
      // An image that is being made is none yet.
      if (walk->is_directory(error) && walk->path().string().ends_with(".juneheath.new"))
        walk.disable_recursion_pending();
      if (walk->is_symlink(error) || !walk->is_regular_file(error)) continue;
      add(walk->path());
    }
  }
  std::sort(found.begin(), found.end());
  found.erase(std::unique(found.begin(), found.end()), found.end());
  return found;
}

}  // namespace jh

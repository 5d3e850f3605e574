#include "core/container/file_resolver.h"

#include <algorithm>
#include <filesystem>

namespace jh {

namespace files = std::filesystem;

std::string real_path(const std::string& path) {
  std::error_code error;
  const files::path real = files::canonical(path, error);
  return error ? path : real.string();
}

std::string path_beside(const std::string& image, const std::string& name) {
  const files::path path(name);
  return path.is_absolute() ? name : (files::path(image).parent_path() / path).string();
}

Store* HostFileResolver::open(const std::string& path, Access access) {
  auto& slot = opened_[path];
  if (!slot) {
    if (!host_.exists(path)) return nullptr;
    host_.check_path_allowed(path);
    slot = host_.open(path, access);
  }
  return slot.get();
}

Store* HostFileResolver::part(const std::string& path) { return open(path, parts_); }

Store* HostFileResolver::parent(const std::string& path) { return open(path, Access::read_only); }

Store& HostFileResolver::create_part(const std::string& path) {
  opened_[path] = host_.create(path);
  return *opened_[path];
}

std::vector<std::string> HostFileResolver::siblings(const std::string& path) {
  constexpr std::size_t most = 4096;
  std::vector<std::string> found;
  std::error_code error;
  const files::path folder = files::path(path).parent_path();
  for (const auto& entry : files::directory_iterator(folder.empty() ? "." : folder, error)) {
    if (found.size() == most) break;
    if (!entry.is_regular_file(error) || files::equivalent(entry.path(), path, error)) continue;
    found.push_back((folder / entry.path().filename()).string());
  }
  std::sort(found.begin(), found.end());
  return found;
}

Store* ListedFileResolver::part(const std::string& path) {
  const auto found = parts_.find(path);
  if (found != parts_.end()) return found->second;
  return others_ == nullptr ? nullptr : others_->part(path);
}

}  // namespace jh

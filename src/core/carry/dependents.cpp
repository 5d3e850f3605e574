#include "core/carry/dependents.h"

#include <sys/stat.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <optional>
#include <set>

#include "core/base/errors.h"
#include "core/base/shell_word.h"
#include "core/container/recognise.h"
#include "core/store/durable.h"
#include "core/store/file_store.h"
#include "core/store/host.h"
#include "core/store/ledger.h"

namespace jh {
namespace {

namespace files = std::filesystem;

// Hypervisors keep snapshots one or two folders below the disk, or beside its folder.
constexpr int folders_below = 3;
constexpr std::size_t most_files = 8192;

// Regular files, links to such among them, in this folder and so many storeys below. One that was
// listed before is gone through for what is below it only.
void list(const files::path& folder, int below, std::set<std::string>& seen,
          std::vector<std::string>& found) {
  const bool fresh = seen.insert(real_path(folder.string())).second;
  if (!fresh && below == 0) return;
  std::vector<files::path> further;
  std::error_code error;
  for (auto entry = files::directory_iterator(folder, error);
       !error && entry != files::directory_iterator(); entry.increment(error)) {
    std::error_code ignored;
    const files::path& path = entry->path();
    if (below > 0 && entry->is_directory(ignored) && !entry->is_symlink(ignored))
      further.push_back(path);
    else if (fresh && found.size() < most_files && entry->is_regular_file(ignored) &&
             !is_reserved_name(path.string()))
      found.push_back(folder == "." ? path.filename().string() : path.string());
  }
  std::sort(further.begin(), further.end());
  for (const files::path& each : further) list(each, below - 1, seen, found);
}

// Of all of these images: their own folders, what is below, and what lies beside their folders.
std::vector<std::string> files_around(const std::vector<std::string>& images) {
  std::set<std::string> seen;
  std::vector<std::string> found;
  for (const std::string& image : images)
    for (const std::string& path : {image, real_path(image)}) list(folder_of(path), 0, seen, found);
  std::set<std::string> begun;
  for (const std::string& image : images) {
    const files::path own = real_path(folder_of(real_path(image)).string());
    if (!begun.insert(own.string()).second) continue;
    list(own, folders_below, seen, found);
    // "base/disk" and "snapshots/child" side by side. The top of the tree is nobody's folder.
    const files::path above = own.parent_path();
    if (above == above.root_path()) continue;
    list(above, 1, seen, found);
  }
  return found;
}

using FileNumber = std::pair<dev_t, ino_t>;
std::optional<FileNumber> number_of(const std::string& path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0 || !S_ISREG(info.st_mode)) return std::nullopt;
  return FileNumber{info.st_dev, info.st_ino};
}

// Of what another file says of itself, as far as it can be read.
struct Claims {
  std::vector<std::string> parents;
  std::string parent_identity;
  std::vector<std::string> pieces;
};

Claims claims_of(const std::string& path) {
  Claims claims;
  try {
    FileStore file(path, Access::read_only);
    if (recognise_format(file) == ImageFormat::raw) return claims;
    FileHost host;
    HostFileResolver resolver(host);
    claims.pieces = part_names(file);
    claims.parents = parent_paths(file, resolver);
    claims.parent_identity = parent_identity_of(file);
  } catch (const Error&) {
    // What cannot be read says nothing.
  }
  return claims;
}

std::string identity_of_file(const std::string& path) {
  try {
    FileStore file(path, Access::read_only);
    return identity_of(file);
  } catch (const Error&) {
    return {};
  }
}

}  // namespace

void check_no_dependents(const std::vector<std::string>& images) {
  std::map<FileNumber, std::string> by_number;
  std::map<std::string, std::string> by_identity;
  for (const std::string& image : images) {
    const auto number = number_of(image);
    if (!number) continue;
    by_number.emplace(*number, image);
    if (const std::string identity = identity_of_file(image); !identity.empty())
      by_identity.emplace(identity, image);
  }
  const auto image_at = [&](const std::string& path) -> const std::string* {
    const auto number = number_of(path);
    if (!number) return nullptr;
    const auto found = by_number.find(*number);
    return found == by_number.end() ? nullptr : &found->second;
  };
  for (const std::string& other : files_around(images)) {
    const std::string* own = image_at(other);
    const Claims claims = claims_of(other);
    const auto builds_on = [&](const std::string& image) {
      if (own != nullptr && *own == image) return;  // its own names lead back to it
      refuse(other + " builds on this image, and would be damaged by a change of it", image,
             "name " + shell_word(other) + " instead, or merge the two in the hypervisor");
    };
    bool found = false;
    for (const std::string& parent : claims.parents) {
      if (const std::string* image = image_at(parent)) builds_on(*image);
      found = found || number_of(parent).has_value();
    }
    // Where its parent is, by its own word, another file is no more than a copy of that.
    const auto same = by_identity.find(claims.parent_identity);
    if (!found && same != by_identity.end()) builds_on(same->second);
    if (own != nullptr) continue;
    for (const std::string& piece : claims.pieces)
      if (const std::string* image = image_at(piece))
        refuse("this is a piece of a disk that " + other + " describes, and not the disk", *image,
               "name the disk instead: " + shell_word(other));
  }
}

}  // namespace jh

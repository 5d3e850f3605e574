#include "core/change/unfinished_image.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <fstream>
#include <system_error>

#include "core/store/ledger.h"

namespace jh {
namespace {

namespace files = std::filesystem;

// In the folder when everything is written: the names of what is to be moved, the image's last.
constexpr const char* list_name = "finished.list";

std::string folder_for(const std::string& out) { return out + ".juneheath.new"; }

[[noreturn]] void failed(const std::string& doing, const std::string& path, int error) {
  io_failed(fmt::format("{} failed: {}", doing, std::generic_category().message(error)), path,
            error == ENAMETOOLONG ? "its name would be too long for the host: choose a shorter one"
                                  : "look at the host's filesystem and at the permissions there");
}

// The folder, locked; not open: it is no folder. Throws refused when it is locked already.
Descriptor lock_folder(const std::string& folder) {
  Descriptor place(folder, O_RDONLY | O_DIRECTORY | O_NOFOLLOW);
  if (!place.is_open() || ::flock(*place, LOCK_EX | LOCK_NB) == 0) return place;
  refuse("the new image is being written at this moment", folder, "wait for it to be finished");
}

void remove_folder(const std::string& folder) {
  std::error_code error;
  for (const auto& entry : files::directory_iterator(folder, error))
    if (!entry.is_directory(error)) ::unlink(entry.path().c_str());
  ::rmdir(folder.c_str());
}

// Moves what the list names; what was moved already is not there any more.
void move_out(const std::string& folder, const std::string& out) {
  std::ifstream list(files::path(folder) / list_name);
  for (std::string name; std::getline(list, name, '\0');) {
    const files::path from = files::path(folder) / name;
    const files::path to = folder_of(out) / name;
    std::error_code error;
    if (name.empty() || name.find('/') != std::string::npos ||
        !files::is_regular_file(files::symlink_status(from, error)))
      continue;
    rename_durably(from.string(), to.string(), NameTaken::refused);
  }
}

}  // namespace

void check_name_is_free(const std::string& out) {
  if (is_reserved_name(out))
    refuse("names that end like this are kept for ledgers and unfinished images", out,
           "choose another name");
}

UnfinishedImage::UnfinishedImage(const std::string& out) : out_(out), folder_(folder_for(out)) {
  check_name_is_free(out);
  std::error_code error;
  if (files::exists(files::symlink_status(out, error)))
    refuse("the new image's name is taken already", out, "choose another name, or move it away");
  clear_unfinished_image(out);
  if (files::exists(files::symlink_status(out, error)))
    refuse("an earlier try was complete but for its name, which it has now", out,
           "see whether it is what you want");
  if (::mkdir(folder_.c_str(), 0700) != 0) failed("making the folder", folder_, errno);
  flush_name(folder_);
  lock_ = lock_folder(folder_);
  path_ = (files::path(folder_) / files::path(out).filename()).string();
}

UnfinishedImage::~UnfinishedImage() {
  if (lock_.is_open()) remove_folder(folder_);
}

std::string UnfinishedImage::inside(const std::string& place) const {
  return (files::path(folder_) / files::path(place).filename()).string();
}

std::string UnfinishedImage::place_of(const std::string& file) const {
  return (files::path(out_).parent_path() / files::path(file).filename()).string();
}

void UnfinishedImage::check_places(const std::vector<std::string>& further) const {
  std::error_code error;
  for (const std::string& file : further)
    if (files::exists(files::symlink_status(place_of(file), error)))
      refuse("a file that the new image needs is there already", place_of(file),
             "move it away, or choose another name");
}

void UnfinishedImage::finish(const std::vector<std::string>& further) {
  check_places(further);
  std::string text;
  const auto add = [&](const std::string& file) {
    text += files::path(file).filename().string();
    text += '\0';
  };
  for (const std::string& file : further) add(file);
  add(path_);
  // What it names is flushed, and so are its names, before it says so.
  flush_name(path_);
  write_durable_file((files::path(folder_) / list_name).string(), text_bytes(text));
  move_out(folder_, out_);
  remove_folder(folder_);
  lock_ = Descriptor();
}

void UnfinishedImage::finish_as_folder() {
  flush_name(path_);
  rename_durably(folder_, out_, NameTaken::refused);
  lock_ = Descriptor();
}

std::optional<std::string> clear_unfinished_image(const std::string& out) {
  const std::string folder = folder_for(out);
  const Descriptor lock = lock_folder(folder);
  if (!lock.is_open()) return std::nullopt;
  std::error_code error;
  const bool complete = files::exists(files::path(folder) / list_name, error);
  if (complete) move_out(folder, out);
  remove_folder(folder);
  return complete ? "finished: the new image is complete"
                  : "removed: what was begun of a new image";
}

}  // namespace jh

#include "core/store/host.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/magic.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/sysmacros.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <fstream>
#include <system_error>

namespace jh {
namespace {

namespace files = std::filesystem;

[[noreturn]] void failed(const char* doing, const std::string& path, int error) {
  io_failed(fmt::format("{} failed: {}", doing, std::generic_category().message(error)), path,
            error == ENAMETOOLONG
                ? "its name would be too long for the host: give the image a shorter one"
                : "look at the host's filesystem and at the permissions of this folder");
}

std::string first_line(const files::path& path) {
  std::ifstream file(path);
  std::string line;
  std::getline(file, line);
  while (!line.empty() && line.back() == ' ') line.pop_back();
  return line;
}

}  // namespace

bool remove_quietly(Host& host, const std::string& path) {
  try {
    host.remove(path);
    return true;
  } catch (const Error&) {
    return false;
  }
}

std::unique_ptr<Store> FileHost::open(const std::string& path, Access access) {
  return std::make_unique<FileStore>(path, access);
}

std::unique_ptr<Store> FileHost::open_plain(const std::string& path, Access access) {
  struct stat info {};
  const bool there = ::lstat(path.c_str(), &info) == 0;
  if (there && (!S_ISREG(info.st_mode) || info.st_nlink != 1))
    refuse("a ledger is a plain file with one name, and this is none", path,
           "see who put it there; nothing was done with it");
  return std::make_unique<FileStore>(path, access, /*follow_links=*/false);
}

std::unique_ptr<Store> FileHost::create(const std::string& path) {
  make_durable_folder(folder_of(path).string());
  auto store = FileStore::create(path);
  try {
    flush_name(path);
  } catch (const Error&) {
    ::unlink(path.c_str());
    throw;
  }
  return store;
}

bool FileHost::exists(const std::string& path) {
  std::error_code error;
  return files::exists(files::symlink_status(path, error));
}

void FileHost::copy_owner_and_mode(const std::string& path, const std::string& model) {
  struct stat info {};
  if (::stat(model.c_str(), &info) != 0 || !S_ISREG(info.st_mode)) return;
  // Not everybody may give files away; the permissions are what keeps strangers out.
  const bool given = ::chown(path.c_str(), info.st_uid, info.st_gid) == 0;
  const mode_t mode = info.st_mode & (given ? 0777U : 0700U);
  if (::chmod(path.c_str(), mode) != 0) failed("setting the permissions of the file", path, errno);
}

void FileHost::remove(const std::string& path) {
  if (::unlink(path.c_str()) != 0) {
    if (errno == ENOENT) return;
    failed("removing the file", path, errno);
  }
  flush_name(path);
}

void FileHost::rename(const std::string& from, const std::string& to) {
  rename_durably(from, to, NameTaken::replaced);
}

std::uint64_t FileHost::free_space(const std::string& path) {
  struct statvfs info {};
  std::string folder = folder_of(path).string();
  // A device's own bytes take no room; its ledger does.
  struct stat device {};
  if (::stat(path.c_str(), &device) == 0 && S_ISBLK(device.st_mode)) {
    files::path at = ledger_folder_;
    std::error_code error;
    while (!files::is_directory(at, error) && at.has_parent_path() && at != at.parent_path())
      at = at.parent_path();
    folder = at.empty() ? "." : at.string();
  }
  if (::statvfs(folder.c_str(), &info) != 0) failed("asking for free space", folder, errno);
  return checked_mul(info.f_bavail, info.f_frsize);
}

std::uint64_t FileHost::allocated(const std::string& path) {
  return FileStore(path, Access::read_only).allocated();
}

FileIdentity FileHost::identity(const std::string& path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) failed("looking at the file", path, errno);
  return {S_ISBLK(info.st_mode) ? info.st_rdev : info.st_dev,
          S_ISBLK(info.st_mode) ? 0 : info.st_ino};
}

void FileHost::check_path_allowed(const std::string& path) {
  std::error_code error;
  const files::path real = files::canonical(path, error);
  if (error) return;  // opening it names the trouble
  if (!files::is_regular_file(real, error))
    refuse("the image speaks of something that is no regular file, and was not named", path,
           real == path ? "no such thing is followed, whatever the options"
                        : "it leads to " + real.string() + "; no such thing is followed");
  if (reach_.anywhere) return;
  for (const std::string& folder : reach_.folders) {
    const files::path allowed = files::canonical(folder, error);
    if (!error && allowed == real.parent_path()) return;
  }
  refuse("the image speaks of a file outside of the image's folder", real.string(),
         "if you know that it belongs to the image, add --allow-outside");
}

std::string FileHost::device_name(const std::string& path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0 || !S_ISBLK(info.st_mode)) return {};
  std::error_code error;
  files::path node = files::canonical(
      fmt::format("/sys/dev/block/{}:{}", major(info.st_rdev), minor(info.st_rdev)), error);
  if (error) return {};
  const std::string partition = first_line(node / "partition");
  if (!partition.empty()) node = node.parent_path();
  for (const char* place :
       {"dm/uuid", "loop/backing_file", "wwid", "device/wwid", "device/serial", "serial"}) {
    std::string name = first_line(node / place);
    if (name.empty()) continue;
    if (const std::string offset = first_line(node / "loop" / "offset"); !offset.empty())
      name += "@" + offset;
    return partition.empty() ? name : name + "-" + partition;
  }
  return {};
}

std::uint64_t FileHost::link_count(const std::string& path) {
  struct stat info {};
  return ::stat(path.c_str(), &info) == 0 && S_ISREG(info.st_mode) ? info.st_nlink : 1;
}

bool FileHost::has_folder(const std::string& path) {
  std::error_code error;
  return files::is_directory(folder_of(path), error);
}

bool FileHost::overwriting_needs_room(const std::string& path) {
  struct statfs info {};
  return ::statfs(folder_of(path).string().c_str(), &info) == 0 &&
         static_cast<std::uint64_t>(info.f_type) == BTRFS_SUPER_MAGIC;
}

// Hosts say so only when they are asked to do it: a block goes into a file that never gets a name.
bool FileHost::can_share(const std::string& from, const std::string& to) {
  try {
    FileStore source(from, Access::read_only);
    const auto scratch = FileStore::create_unnamed(folder_of(to).string());
    const std::uint64_t block = scratch->share_unit();
    if (source.size() < block) return false;
    scratch->resize(block);
    return scratch->share(0, source, 0, block) == block;
  } catch (const Error&) {
    return false;
  }
}

std::unique_ptr<Store> FileHost::create_unnamed(const std::string& beside) {
  try {
    return FileStore::create_unnamed(folder_of(beside).string());
  } catch (const Error&) {
    return nullptr;  // not all filesystems have such files
  }
}

std::string FileHost::ledger_path(const std::string& image) {
  std::error_code error;
  files::path real = files::canonical(image, error);  // a link's ledger lies beside its target
  if (error) {
    // What is not there yet, or not any more: its folder may still be.
    const files::path folder = files::canonical(folder_of(image), error);
    real = error ? files::absolute(image) : folder / files::path(image).filename();
  }
  struct stat info {};
  if (::stat(real.c_str(), &info) != 0 || !S_ISBLK(info.st_mode))
    return real.string() + ".juneheath";
  // A device's name in the system may be another one's tomorrow.
  std::string name = device_name(real);
  if (name.empty()) name = real.filename().string();
  for (char& c : name)
    if (c == '/') c = '_';
  return (files::path(ledger_folder_) / (name + ".juneheath")).string();
}

}  // namespace jh

#include "core/store/host.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <system_error>

namespace jh {
namespace {

namespace files = std::filesystem;

[[noreturn]] void failed(const char* doing, const std::string& path, int error) {
  io_failed(fmt::format("{} failed: {}", doing, std::generic_category().message(error)), path,
            "look at the host's filesystem and at the permissions of this folder");
}

files::path folder_of(const std::string& path) {
  const files::path parent = files::path(path).parent_path();
  return parent.empty() ? files::path(".") : parent;
}

// A name is durable once its folder is.
void flush_folder(const std::string& path) {
  const std::string folder = folder_of(path).string();
  const int fd = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (fd < 0) failed("opening the folder", folder, errno);
  const int result = ::fsync(fd);
  const int error = errno;
  ::close(fd);
  // Some host filesystems cannot flush a folder (EINVAL); they keep names in order by themselves.
  if (result != 0 && error != EINVAL) failed("flushing the folder", folder, error);
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

std::unique_ptr<Store> FileHost::create(const std::string& path) {
  std::error_code ignored;
  files::create_directories(folder_of(path), ignored);
  auto store = FileStore::create(path);
  try {
    flush_folder(path);
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

void FileHost::take_after(const std::string& path, const std::string& model) {
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
  flush_folder(path);
}

void FileHost::rename(const std::string& from, const std::string& to) {
  if (::rename(from.c_str(), to.c_str()) != 0) failed("renaming the file", from, errno);
  flush_folder(to);
}

std::uint64_t FileHost::free_space(const std::string& path) {
  struct statvfs info {};
  const std::string folder = folder_of(path).string();
  if (::statvfs(folder.c_str(), &info) != 0) failed("asking for free space", folder, errno);
  return checked_mul(info.f_bavail, info.f_frsize);
}

FileIdentity FileHost::identity(const std::string& path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) failed("looking at the file", path, errno);
  return {S_ISBLK(info.st_mode) ? info.st_rdev : info.st_dev,
          S_ISBLK(info.st_mode) ? 0 : info.st_ino};
}

std::string FileHost::ledger_path(const std::string& image) {
  std::error_code error;
  files::path real = files::canonical(image, error);  // a link's ledger lies beside its target
  if (error) real = files::absolute(image);
  struct stat info {};
  if (::stat(real.c_str(), &info) == 0 && S_ISBLK(info.st_mode))
    return (files::path(ledger_folder_) / (real.filename().string() + ".juneheath")).string();
  return real.string() + ".juneheath";
}

}  // namespace jh

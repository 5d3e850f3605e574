#include "core/store/durable.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <filesystem>
#include <system_error>
#include <vector>

#include "core/base/descriptor.h"

namespace jh {
namespace {

namespace files = std::filesystem;

[[noreturn]] void failed(const std::string& doing, const std::string& path, int error) {
  io_failed(fmt::format("{} failed: {}", doing, std::generic_category().message(error)), path,
            error == ENAMETOOLONG ? "its name would be too long for the host: choose a shorter one"
            : error == ENOSPC || error == EDQUOT
                ? "make room on the host's filesystem, then run again"
                : "look at the host's filesystem and at the permissions of this folder");
}

std::string name_to_begin_with(const std::string& path) {
  std::uint64_t number = 0;
  if (::getrandom(&number, sizeof number, 0) != static_cast<ssize_t>(sizeof number))
    failed("asking the system for a random number", path, errno);
  return (folder_of(path) / fmt::format(".{:016x}.juneheath.new", number)).string();
}

void write_all(int file, ConstByteSpan bytes, const std::string& path) {
  for (std::size_t done = 0; done < bytes.size();) {
    const ssize_t count =
        ::pwrite(file, bytes.data() + done, bytes.size() - done, static_cast<off_t>(done));
    if (count < 0 && errno == EINTR) continue;
    if (count <= 0) failed("writing the file", path, errno);
    done += static_cast<std::size_t>(count);
  }
  if (::fsync(file) != 0) failed("flushing the file", path, errno);
}

// 0, or what went wrong. A filesystem that knows no renaming of this kind says EINVAL.
int rename_where_free(const std::string& from, const std::string& to) {
  if (::renameat2(AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE) == 0) return 0;
  if (errno != EINVAL && errno != ENOSYS) return errno;
  struct stat info {};
  if (::lstat(from.c_str(), &info) != 0) return errno;
  if (S_ISDIR(info.st_mode)) {
    // A folder that is not empty is never replaced.
    if (::lstat(to.c_str(), &info) == 0) return EEXIST;
    return ::rename(from.c_str(), to.c_str()) == 0 ? 0 : errno;
  }
  // A second name is never made over another.
  if (::link(from.c_str(), to.c_str()) != 0) return errno;
  return ::unlink(from.c_str()) == 0 ? 0 : errno;
}

}  // namespace

files::path folder_of(const std::string& path) {
  const files::path parent = files::path(path).parent_path();
  return parent.empty() ? files::path(".") : parent;
}

void flush_name(const std::string& path) {
  const std::string folder = folder_of(path).string();
  const Descriptor opened(folder, O_RDONLY | O_DIRECTORY);
  if (!opened.is_open()) failed("opening the folder", folder, errno);
  // Some host filesystems cannot flush a folder (EINVAL); they keep names in order by themselves.
  if (::fsync(*opened) != 0 && errno != EINVAL) failed("flushing the folder", folder, errno);
}

void make_durable_folder(const std::string& path) {
  std::error_code error;
  std::vector<files::path> missing;
  files::path at = files::path(path).lexically_normal();
  if (!at.has_filename()) at = at.parent_path();
  for (; !at.empty() && !files::is_directory(at, error); at = at.parent_path())
    missing.push_back(at);
  for (auto next = missing.rbegin(); next != missing.rend(); ++next) {
    if (::mkdir(next->c_str(), 0777) != 0 && errno != EEXIST)
      failed("making the folder", next->string(), errno);
    if (!files::is_directory(*next, error)) failed("making the folder", next->string(), ENOTDIR);
    flush_name(next->string());
  }
}

void rename_durably(const std::string& from, const std::string& to, NameTaken taken) {
  if (taken == NameTaken::replaced) {
    if (::rename(from.c_str(), to.c_str()) != 0) failed("renaming the file", from, errno);
  } else if (const int error = rename_where_free(from, to); error != 0) {
    if (error == EEXIST)
      refuse("a file has this name by now", to, "move it away, or choose another name");
    failed("renaming the file", from, error);
  }
  flush_name(to);
  if (folder_of(from) != folder_of(to)) flush_name(from);
}

void write_durable_file(const std::string& path, ConstByteSpan bytes, NameTaken taken,
                        mode_t mode) {
  const std::string fresh = name_to_begin_with(path);
  const Descriptor file(fresh, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW, mode);
  if (!file.is_open()) failed("making the file", path, errno);
  try {
    write_all(*file, bytes, path);
    rename_durably(fresh, path, taken);
  } catch (const Error&) {
    ::unlink(fresh.c_str());
    throw;
  }
}

}  // namespace jh

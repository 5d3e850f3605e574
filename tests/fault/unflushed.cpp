#include "unflushed.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <map>
#include <mutex>
#include <string>
#include <vector>

namespace jh::test {
namespace {

namespace files = std::filesystem;

// JUNEHEATH_FORGET names a folder for what is remembered; not set: nothing is lost.
// JUNEHEATH_FORGET_ALL: flushing does not help either.
const char* folder() {
  static const char* const name = std::getenv("JUNEHEATH_FORGET");
  return name;
}

struct NameChange {
  enum class Kind { made, replaced, removed } kind;
  std::string path;
  std::string from;   // of a replacing
  std::string saved;  // another name of what was replaced or removed; empty: nothing was
};

struct Memory {
  std::mutex guard;
  std::map<std::pair<dev_t, ino_t>, std::pair<std::string, std::string>> copies;  // path, its copy
  std::vector<NameChange> names;
  int numbers = 0;
};

// Made when it is first asked for, so that it outlives whoever asked early.
Memory& memory() {
  static Memory all;
  return all;
}

std::string path_of(int fd) {
  char path[4096];
  const std::string link = "/proc/self/fd/" + std::to_string(fd);
  const ssize_t length = ::readlink(link.c_str(), path, sizeof path);
  return length < 0 ? std::string() : std::string(path, static_cast<std::size_t>(length));
}

std::string fresh_name() {
  return std::string(folder()) + "/" + std::to_string(++memory().numbers);
}

// With the system's own calls, none of which is watched.
void copy(const std::string& from, const std::string& to) {
  const int in = ::open(from.c_str(), O_RDONLY | O_CLOEXEC);
  const int out = ::open(to.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0600);
  struct stat info {};
  ::fstat(in, &info);
  const std::string truncate_to = "/proc/self/fd/" + std::to_string(out);
  (void)!::truncate(truncate_to.c_str(), 0);
  (void)!::truncate(truncate_to.c_str(), info.st_size);
  off_t at = 0;
  while ((at = ::lseek(in, at, SEEK_DATA)) >= 0 && at < info.st_size) {
    const off_t end = ::lseek(in, at, SEEK_HOLE);
    ::lseek(in, at, SEEK_SET);
    ::lseek(out, at, SEEK_SET);
    while (at < end) {
      std::vector<char> piece(static_cast<std::size_t>(std::min<off_t>(1 << 20, end - at)));
      const ssize_t got = ::read(in, piece.data(), piece.size());
      if (got <= 0) break;
      (void)!::write(out, piece.data(), static_cast<std::size_t>(got));
      at += got;
    }
  }
  ::close(in);
  ::close(out);
}

// Another name of it, so that it can be brought back; it must not be gone for good.
std::string save(const std::string& path) {
  const std::string kept = fresh_name();
  return ::link(path.c_str(), kept.c_str()) == 0 ? kept : std::string();
}

}  // namespace

void begin_to_remember() { memory(); }

void file_changes(int fd) {
  if (folder() == nullptr) return;
  struct stat info {};
  if (::fstat(fd, &info) != 0 || !S_ISREG(info.st_mode)) return;
  const std::lock_guard lock(memory().guard);
  const auto key = std::pair(info.st_dev, info.st_ino);
  if (memory().copies.contains(key)) return;
  const std::string path = path_of(fd);
  const std::string kept = fresh_name();
  copy(path, kept);
  memory().copies[key] = {path, kept};
}

void was_flushed(int fd) {
  static const bool in_vain = std::getenv("JUNEHEATH_FORGET_ALL") != nullptr;
  if (folder() == nullptr || in_vain) return;
  struct stat info {};
  if (::fstat(fd, &info) != 0) return;
  const std::lock_guard lock(memory().guard);
  if (S_ISREG(info.st_mode)) memory().copies.erase({info.st_dev, info.st_ino});
  if (!S_ISDIR(info.st_mode)) return;
  const std::string flushed = path_of(fd);
  std::erase_if(memory().names, [&](const NameChange& change) {
    return files::path(change.path).parent_path() == flushed;
  });
}

void name_made(const char* path) {
  if (folder() == nullptr) return;
  const std::lock_guard lock(memory().guard);
  memory().names.push_back({NameChange::Kind::made, files::absolute(path), {}, {}});
}

void name_replaced(const char* from, const char* to) {
  if (folder() == nullptr) return;
  const std::lock_guard lock(memory().guard);
  memory().names.push_back(
      {NameChange::Kind::replaced, files::absolute(to), files::absolute(from), save(to)});
}

void name_removed(const char* path) {
  if (folder() == nullptr) return;
  const std::lock_guard lock(memory().guard);
  memory().names.push_back({NameChange::Kind::removed, files::absolute(path), {}, save(path)});
}

void lose_unflushed() {
  if (folder() == nullptr) return;
  const std::lock_guard lock(memory().guard);
  // By its inode: the name may have changed since.
  for (const auto& [key, kept] : memory().copies) {
    std::string path = kept.first;
    for (const NameChange& change : memory().names)
      if (change.kind == NameChange::Kind::replaced && change.from == path) path = change.path;
    struct stat info {};
    if (::stat(path.c_str(), &info) == 0 && std::pair(info.st_dev, info.st_ino) == key)
      copy(kept.second, path);
  }
  for (auto change = memory().names.rbegin(); change != memory().names.rend(); ++change) {
    if (change->kind == NameChange::Kind::made) {
      ::remove(change->path.c_str());
      continue;
    }
    if (change->kind == NameChange::Kind::replaced)
      ::renameat(AT_FDCWD, change->path.c_str(), AT_FDCWD, change->from.c_str());
    if (!change->saved.empty())
      ::renameat(AT_FDCWD, change->saved.c_str(), AT_FDCWD, change->path.c_str());
  }
}

}  // namespace jh::test

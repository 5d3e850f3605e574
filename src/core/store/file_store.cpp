#include "core/store/file_store.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/falloc.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/statfs.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <system_error>
#include <utility>

#include "core/store/file_extents.h"

namespace jh {
namespace {

// Written bytes after which the host begins to bring them out. Left to itself it would do nothing
// until the flush, and then the program would do nothing.
constexpr std::uint64_t worth_bringing_out = 16U << 20;

std::string reason(int error) { return std::generic_category().message(error); }

[[noreturn]] void call_failed(const char* doing, const std::string& path, int error) {
  io_failed(fmt::format("{} failed: {}", doing, reason(error)), path,
            error == ENOSPC || error == EDQUOT || error == EFBIG
                ? "make room on the host's filesystem, then run the command again"
            : error == ENAMETOOLONG
                ? "its name would be too long for the host: give the image a shorter one"
                : "look at the host's disk and its system log, then run again");
}

}  // namespace

FileStore::FileStore(int fd, std::string path) : fd_(fd), path_(std::move(path)) { find_size(); }

FileStore::FileStore(const std::string& path, Access access, bool follow_links) : path_(path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) {
    const int error = errno;
    refuse(fmt::format("cannot open the image: {}", reason(error)), path,
           error == ENOENT ? "check the path" : "check the path and its permissions");
  }
  if (!S_ISREG(info.st_mode) && !S_ISBLK(info.st_mode))
    refuse(S_ISDIR(info.st_mode) ? "this is a directory, not a disk image"
                                 : "this is neither a regular file nor a block device",
           path, "name the disk image itself");
  const int flags = (access == Access::read_write ? O_RDWR : O_RDONLY) | O_CLOEXEC |
                    (follow_links ? 0 : O_NOFOLLOW);
  fd_ = ::open(path.c_str(), flags);
  if (fd_ < 0)
    refuse(fmt::format("cannot open the image: {}", reason(errno)), path,
           access == Access::read_write ? "make it writable for you, or run as its owner"
                                        : "check its permissions");
  find_size();
}

std::unique_ptr<FileStore> FileStore::create(const std::string& path) {
  const int fd = ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
  if (fd < 0) call_failed("creating the file", path, errno);
  return std::unique_ptr<FileStore>(new FileStore(fd, path));
}

std::unique_ptr<FileStore> FileStore::create_unnamed(const std::string& folder) {
  const int fd = ::open(folder.c_str(), O_RDWR | O_TMPFILE | O_CLOEXEC, 0600);
  if (fd < 0) call_failed("creating a file without a name", folder, errno);
  return std::unique_ptr<FileStore>(new FileStore(fd, folder));
}

FileStore::~FileStore() {
  if (bringing_out_.valid()) bringing_out_.wait();
  if (fd_ >= 0) ::close(fd_);
}

void FileStore::find_size() {
  struct stat info {};
  if (::fstat(fd_, &info) != 0) call_failed("looking at the file", path_, errno);
  block_device_ = S_ISBLK(info.st_mode);
  size_ = static_cast<std::uint64_t>(info.st_size);
  device_ = info.st_dev;
  if (block_device_ && ::ioctl(fd_, BLKGETSIZE64, &size_) != 0)
    call_failed("asking the device for its size", path_, errno);
}

void FileStore::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  bytes_read_ += out.size();
  while (!out.empty()) {
    const ssize_t got = ::pread(fd_, out.data(), out.size(), static_cast<off_t>(offset));
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) call_failed(fmt::format("reading at byte {}", offset).c_str(), path_, errno);
    if (got == 0)
      io_failed(fmt::format("the file ends at byte {}, earlier than it said", offset), path_,
                "see which program is changing it");
    out = out.subspan(static_cast<std::size_t>(got));
    offset += static_cast<std::uint64_t>(got);
  }
}

void FileStore::will_read(std::uint64_t offset, std::uint64_t length) {
  ::posix_fadvise(fd_, static_cast<off_t>(offset), static_cast<off_t>(length), POSIX_FADV_WILLNEED);
}

void FileStore::write(std::uint64_t offset, ConstByteSpan data) {
  check_range(offset, data.size());
  written_since_ += data.size();
  while (!data.empty()) {
    const ssize_t put = ::pwrite(fd_, data.data(), data.size(), static_cast<off_t>(offset));
    if (put < 0 && errno == EINTR) continue;
    if (put < 0) call_failed(fmt::format("writing at byte {}", offset).c_str(), path_, errno);
    data = data.subspan(static_cast<std::size_t>(put));
    offset += static_cast<std::uint64_t>(put);
  }
  if (written_since_ >= worth_bringing_out) begin_flush();
}

Range FileStore::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  if (block_device_) return {offset, length, false};
  {
    const std::lock_guard lock(data_mutex_);
    if (offset >= data_.start && offset < data_.end)
      return {offset, std::min(length, data_.end - offset), false};
  }
  const off_t data = ::lseek(fd_, static_cast<off_t>(offset), SEEK_DATA);
  if (data < 0) {
    // ENXIO: no data up to the end. Anything else: the host cannot tell, so it may all be data.
    return {offset, length, errno == ENXIO};
  }
  const auto data_start = static_cast<std::uint64_t>(data);
  if (data_start > offset) return {offset, std::min(length, data_start - offset), true};
  const off_t hole = ::lseek(fd_, static_cast<off_t>(offset), SEEK_HOLE);
  if (hole < 0 || static_cast<std::uint64_t>(hole) <= offset) return {offset, length, false};
  {
    const std::lock_guard lock(data_mutex_);
    data_ = {offset, static_cast<std::uint64_t>(hole)};
  }
  return {offset, std::min(length, static_cast<std::uint64_t>(hole) - offset), false};
}

std::uint64_t FileStore::share_unit() {
  if (share_unit_ != 0) return share_unit_;
  struct statfs host {};
  const bool is_known = ::fstatfs(fd_, &host) == 0 && host.f_bsize > 0;
  share_unit_ =
      std::max<std::uint64_t>(4096, is_known ? static_cast<std::uint64_t>(host.f_bsize) : 0);
  return share_unit_;
}

std::uint64_t FileStore::share(std::uint64_t offset, Store& from, std::uint64_t source,
                               std::uint64_t length) {
  check_range(offset, length);
  from.check_range(source, length);
  const std::uint64_t unit = share_unit();
  const auto* other = dynamic_cast<FileStore*>(&from);
  if (other == nullptr || block_device_ || other->block_device_ || offset % unit != 0 ||
      source % unit != 0 || shares_nothing_with_.contains(other->device_))
    return 0;
  const bool both_end = offset + length == size_ && source + length == other->size_;
  if (!both_end) length = round_down(length, unit);
  forget_data();
  // The kernel holds both files for as long as one call takes.
  constexpr std::uint64_t most = 4ULL << 30;
  std::uint64_t done = 0;
  while (done < length) {
    const std::uint64_t step = std::min(most, length - done);
    struct file_clone_range range {};
    range.src_fd = other->fd_;
    range.src_offset = source + done;
    range.src_length = step;
    range.dest_offset = offset + done;
    if (::ioctl(fd_, FICLONERANGE, &range) != 0) {
      if (errno == EINTR) continue;
      if (errno == ENOSPC || errno == EDQUOT || errno == EIO)
        call_failed("sharing blocks with another file", path_, errno);
      // Whatever else it is: copying will do, and asking again would only cost time.
      shares_nothing_with_.insert(other->device_);
      break;
    }
    done += step;
  }
  return done;
}

std::uint64_t FileStore::same_blocks(std::uint64_t offset, Store& other, std::uint64_t there,
                                     std::uint64_t length) {
  check_range(offset, length);
  other.check_range(there, length);
  const auto* file = dynamic_cast<FileStore*>(&other);
  if (file == nullptr || block_device_ || file->block_device_ || file->device_ != device_ ||
      shares_nothing_with_.contains(device_))
    return 0;
  return same_blocks_of(fd_, offset, file->fd_, there, length);
}

void FileStore::forget_data() {
  const std::lock_guard lock(data_mutex_);
  data_ = {};
}

void FileStore::discard(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return;
  forget_data();
  const int punch = FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE;
  if (::fallocate(fd_, punch, static_cast<off_t>(offset), static_cast<off_t>(length)) == 0) return;
  constexpr std::uint64_t piece = 1U << 20;
  const Buffer zeros(std::min(length, piece));
  for (std::uint64_t done = 0; done < length; done += piece)
    write(offset + done, ConstByteSpan(zeros).first(std::min(piece, length - done)));
}

void FileStore::begin_flush() {
  // The kernel writes while we go on; an error shows at the flush, so it is not looked at here.
  written_since_ = 0;
  const bool at_it = bringing_out_.valid() &&
                     bringing_out_.wait_for(std::chrono::seconds(0)) != std::future_status::ready;
  if (at_it) return;
  try {
    bringing_out_ = std::async(std::launch::async,
                               [fd = fd_] { ::sync_file_range(fd, 0, 0, SYNC_FILE_RANGE_WRITE); });
  } catch (const std::system_error&) {
    // No thread to be had: the flush will do it all.
  }
}

void FileStore::flush() {
  if (bringing_out_.valid()) bringing_out_.get();
  if (::fsync(fd_) != 0) call_failed("flushing to the host's disk", path_, errno);
}

void FileStore::resize(std::uint64_t new_size) {
  if (new_size == size_) return;
  forget_data();
  if (block_device_)
    refuse("a block device cannot be resized from here", path_,
           "enlarge the device where it is made, then run grow without --to and --by");
  if (new_size > static_cast<std::uint64_t>(INT64_MAX) ||
      ::ftruncate(fd_, static_cast<off_t>(new_size)) != 0)
    call_failed("changing the file's length", path_, new_size > INT64_MAX ? EFBIG : errno);
  size_ = new_size;
}

void FileStore::reserve(std::uint64_t offset, std::uint64_t length) {
  if (block_device_ || length == 0) return;
  const auto promised = [&](int mode) {
    return ::fallocate(fd_, mode | FALLOC_FL_KEEP_SIZE, static_cast<off_t>(offset),
                       static_cast<off_t>(length)) == 0;
  };
  // Blocks that a copy shares get room of their own now, where the host knows how.
  if (knows_sharing_ && promised(FALLOC_FL_UNSHARE_RANGE)) return;
  if (knows_sharing_ && errno == EOPNOTSUPP) knows_sharing_ = false;
  const bool is_full = knows_sharing_ && (errno == ENOSPC || errno == EDQUOT);
  if (!is_full && promised(0)) return;
  if (errno == ENOSPC || errno == EDQUOT)
    refuse("the host has no room left for what must be written", path_,
           "make room on the host's filesystem, then run the command again");
}

std::uint64_t FileStore::allocated() const {
  struct stat info {};
  if (::fstat(fd_, &info) != 0) call_failed("looking at the file", path_, errno);
  return static_cast<std::uint64_t>(info.st_blocks) * 512;
}

}  // namespace jh

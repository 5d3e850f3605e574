// A regular file or block device of the host.
#pragma once

#include <atomic>
#include <future>
#include <memory>
#include <mutex>
#include <set>

#include "core/store/store.h"

namespace jh {

enum class Access { read_only, read_write };

class FileStore final : public Store {
 public:
  /// Opens an existing file. Throws: refused (no such file, no permission, neither a regular file
  /// nor a block device), io.
  FileStore(const std::string& path, Access access, bool follow_links = true);
  /// Creates a file that must not exist yet, readable by its owner only.
  static std::unique_ptr<FileStore> create(const std::string& path);
  /// A file in this folder that never has a name, and is gone with the store. Throws io where the
  /// host knows no such thing.
  static std::unique_ptr<FileStore> create_unnamed(const std::string& folder);
  ~FileStore() override;

  std::uint64_t size() const override { return size_; }
  void read(std::uint64_t offset, ByteSpan out) override;
  /// A flush will follow whatever is written: the host begins to bring it out on the way.
  void write(std::uint64_t offset, ConstByteSpan data) override;
  void will_read(std::uint64_t offset, std::uint64_t length) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  /// Of another FileStore on a filesystem that shares blocks, both places at multiples of its block
  /// size; the last piece of a source may end inside a block where the target ends too.
  std::uint64_t share(std::uint64_t offset, Store& from, std::uint64_t source,
                      std::uint64_t length) override;
  /// By the places of both files' extents on the host's filesystem.
  std::uint64_t same_blocks(std::uint64_t offset, Store& other, std::uint64_t there,
                            std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override;
  void begin_flush() override;
  void resize(std::uint64_t new_size) override;
  bool has_fixed_size() const override { return block_device_; }
  std::string name() const override { return path_; }

  /// Host filesystems that cannot promise space are taken at their word.
  void reserve(std::uint64_t offset, std::uint64_t length) override;
  /// Places and lengths that share() takes are multiples of this.
  std::uint64_t share_unit();
  bool is_block_device() const { return block_device_; }
  /// Bytes that the host has given this file.
  std::uint64_t allocated() const;
  int descriptor() const { return fd_; }
  /// How many bytes were read from it so far.
  std::uint64_t bytes_read() const { return bytes_read_; }

 private:
  FileStore(int fd, std::string path);
  void find_size();

  int fd_ = -1;
  std::string path_;
  std::uint64_t size_ = 0;
  bool block_device_ = false;
  bool knows_sharing_ = true;     // the host: whether blocks of a copy can be told to part
  std::uint64_t device_ = 0;      // that the file lies on
  std::uint64_t share_unit_ = 0;  // nobody has asked yet
  /// Where the host says a hole begins costs it a walk through all of the file's extents before it:
  /// what is known to be data is not asked for again.
  struct DataRun {
    std::uint64_t start = 0;
    std::uint64_t end = 0;
  };
  void forget_data();
  std::mutex data_mutex_;
  DataRun data_;
  std::set<std::uint64_t> shares_nothing_with_;  // devices of sources that were refused
  std::atomic<std::uint64_t> bytes_read_ = 0;    // by more than one thread
  std::uint64_t written_since_ = 0;              // since the host began to bring it out
  std::future<void> bringing_out_;
};

}  // namespace jh

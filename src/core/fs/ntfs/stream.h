// The bytes of an attribute, wherever they are.
#pragma once

#include "core/fs/ntfs/geometry.h"
#include "core/fs/ntfs/runs.h"

namespace jh::ntfs {

class Stream {
 public:
  Stream() = default;
  Stream(Store& store, const Geometry& geometry, ClusterRuns runs, std::uint64_t size,
         std::uint64_t initialized)
      : store_(&store),
        cluster_size_(geometry.cluster_size),
        runs_(std::move(runs)),
        size_(size),
        initialized_(initialized) {}
  explicit Stream(Buffer value)
      : size_(value.size()), initialized_(value.size()), value_(std::move(value)) {}

  std::uint64_t size() const { return size_; }
  const ClusterRuns& runs() const { return runs_; }
  /// Holes, and what was never written, read as zeros.
  void read(std::uint64_t offset, ByteSpan out) const;
  Buffer read(std::uint64_t offset, std::size_t length) const;
  /// Into clusters that it has; as `unreferenced` where nothing refers to them yet.
  void write(std::uint64_t offset, ConstByteSpan data, bool unreferenced = false) const;

 private:
  template <class Visit>
  void for_each_part(std::uint64_t offset, std::uint64_t length, Visit visit) const;

  Store* store_ = nullptr;
  std::uint64_t cluster_size_ = 1;
  ClusterRuns runs_;
  std::uint64_t size_ = 0;
  std::uint64_t initialized_ = 0;
  Buffer value_;
};

/// A stream as a store that is only read.
class StreamStore final : public Store {
 public:
  StreamStore(Stream stream, std::string name)
      : stream_(std::move(stream)), name_(std::move(name)) {}
  std::uint64_t size() const override { return stream_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override {
    check_range(offset, out.size());
    stream_.read(offset, out);
  }
  void write(std::uint64_t, ConstByteSpan) override { read_only(); }
  void discard(std::uint64_t, std::uint64_t) override { read_only(); }
  void flush() override {}
  void resize(std::uint64_t) override { read_only(); }
  std::string name() const override { return name_; }

 private:
  [[noreturn]] void read_only() const {
    throw Error(Status::internal, "a file that is only read would be written to", name_,
                "please report this as a bug");
  }

  Stream stream_;
  std::string name_;
};

}  // namespace jh::ntfs

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

}  // namespace jh::ntfs

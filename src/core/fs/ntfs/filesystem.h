// An NTFS volume: its geometry, its file records, and the bytes of its attributes.
#pragma once

#include <functional>
#include <optional>

#include "core/fs/ntfs/geometry.h"
#include "core/fs/ntfs/record.h"

namespace jh::ntfs {

/// The bytes of an attribute, wherever they are.
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

class Filesystem {
 public:
  static bool recognise(Store& place);
  /// Throws damaged, unsupported (versions).
  explicit Filesystem(Store& store);

  Store& store() { return *store_; }
  const Geometry& geometry() const { return geometry_; }
  void set_geometry(const Geometry& geometry) { geometry_ = geometry; }

  /// File records that $MFT has room for.
  std::uint64_t records() const { return records_; }
  const ClusterRuns& mft_runs() const { return mft_.runs(); }
  /// $MFT lies there from now on, and holds as many.
  void set_mft(const ClusterRuns& runs, std::uint64_t records);
  std::uint64_t mirrored() const { return mirrored_; }
  void set_mirror(std::uint64_t cluster) { geometry_.mirror_cluster = cluster; }

  /// Throws damaged when it is none, or was torn.
  Record read_record(std::uint64_t number);
  /// Its bytes as they are on disk.
  Buffer raw_record(std::uint64_t number) const;
  /// Where its first byte is.
  std::uint64_t record_offset(std::uint64_t number) const;
  /// Where it is, and in the mirror, if that has it.
  void write_record(Record record);
  /// All numbers from 0 on with the bytes as they are on disk, in large reads.
  void for_each_raw_record(
      const std::function<void(std::uint64_t number, ByteSpan raw)>& visit) const;

  const VolumeInformation& information() const { return information_; }
  const std::string& label() const { return label_; }

 private:
  void map_mft();
  void read_information();

  Store* store_;
  Geometry geometry_;
  Stream mft_;
  std::uint64_t records_ = 0;
  std::uint64_t mirrored_ = 4;
  VolumeInformation information_{};
  std::string label_;
};

}  // namespace jh::ntfs

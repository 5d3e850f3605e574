// An NTFS volume: its geometry, its file records, and the bytes of its attributes.
#pragma once

#include <functional>

#include "core/fs/ntfs/record.h"
#include "core/fs/ntfs/stream.h"

namespace jh::ntfs {

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
  Buffer raw_record(std::uint64_t number) const { return raw_records(number, 1); }
  /// So many of them from `first` on; they must all be there. Throws damaged.
  Buffer raw_records(std::uint64_t first, std::uint64_t count) const;
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

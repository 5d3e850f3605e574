// Who hands out clusters and file records while a volume is changed.
#pragma once

#include <memory>

#include "core/fs/ntfs/file.h"

namespace jh::ntfs {

/// A rehearsal counts, and writes nothing.
enum class Mode { carry_out, rehearse };

/// Bits, as bitmaps on disk have them.
class BitMap {
 public:
  explicit BitMap(Buffer bytes) : bytes_(std::move(bytes)) {}
  std::uint64_t bits() const { return std::uint64_t{bytes_.size()} * 8; }
  bool test(std::uint64_t bit) const { return (bytes_[bit / 8] >> (bit % 8) & 1) != 0; }
  void set(std::uint64_t bit, bool value) {
    const auto mask = static_cast<std::uint8_t>(1U << (bit % 8));
    bytes_[bit / 8] =
        static_cast<std::uint8_t>(value ? bytes_[bit / 8] | mask : bytes_[bit / 8] & ~mask);
  }
  void set_range(std::uint64_t from, std::uint64_t end, bool value);
  /// The first clear (or set) bit in [from, end); `end` when there is none.
  std::uint64_t next(std::uint64_t from, std::uint64_t end, bool value) const;
  void resize(std::uint64_t bytes) { bytes_.resize(bytes); }
  ConstByteSpan bytes() const { return bytes_; }

 private:
  Buffer bytes_;
};

/// The cluster bitmap, bits beyond the end of the volume included. Throws damaged.
BitMap read_cluster_map(Filesystem& fs);

/// Where new clusters come from.
class Clusters {
 public:
  Clusters() = default;
  Clusters(const Clusters&) = delete;
  Clusters& operator=(const Clusters&) = delete;
  virtual ~Clusters() = default;
  /// A run of 1 to `count` clusters, of all if there is one so long. Throws refused: no room.
  virtual ClusterRun take(std::uint64_t count) = 0;
  virtual void give_back(std::uint64_t lcn, std::uint64_t count) = 0;
};

/// Those in front of `end` that the bitmap has free. What is given back is not handed out again:
/// the old state refers to it.
class FreeClusters final : public Clusters {
 public:
  FreeClusters(BitMap map, std::uint64_t end) : map_(std::move(map)), end_(end) {}
  ClusterRun take(std::uint64_t count) override;
  void give_back(std::uint64_t lcn, std::uint64_t count) override;
  /// The bitmap as it is to be.
  BitMap finish();

 private:
  ClusterRun hand_out(std::uint64_t lcn, std::uint64_t count);

  BitMap map_;
  std::uint64_t end_;
  std::uint64_t cursor_ = 0;             // what is free in front of it is not worth a look
  std::uint64_t hopeless_ = UINT64_MAX;  // no run is so long
  std::vector<ClusterRun> given_back_;
};

/// Those behind the old end, one after the other.
class NewClusters final : public Clusters {
 public:
  NewClusters(std::uint64_t from, std::uint64_t end) : from_(from), next_(from), end_(end) {}
  ClusterRun take(std::uint64_t count) override;
  void give_back(std::uint64_t lcn, std::uint64_t count) override;
  std::uint64_t from() const { return from_; }
  std::uint64_t next() const { return next_; }
  /// In front of the old end, to be marked as free.
  const std::vector<ClusterRun>& given_back() const { return given_back_; }

 private:
  std::uint64_t from_;
  std::uint64_t next_;
  std::uint64_t end_;
  std::vector<ClusterRun> given_back_;
};

/// Clusters and file records.
class Room {
 public:
  /// Gives $MFT room for so many more records.
  using GrowTable = std::function<void(Filesystem&, Room&, std::uint64_t)>;
  Room(Filesystem& fs, Clusters& clusters, Mode mode, GrowTable grow_table);

  Mode mode() const { return mode_; }
  Clusters& clusters() { return clusters_; }
  /// So many clusters, for [vcn, vcn + count) of an attribute.
  ClusterRuns take(std::uint64_t vcn, std::uint64_t count);
  /// A file record that was free; $MFT grows for it where it must. For $MFT itself: one of those
  /// that are kept for it.
  std::uint64_t take_record(bool for_table);
  void give_back_record(std::uint64_t number);
  std::uint64_t records_taken() const { return records_taken_; }
  std::uint64_t bytes_written() const { return bytes_written_; }
  void note_written(std::uint64_t bytes) { bytes_written_ += bytes; }
  /// The bitmap of records as it is to be; nothing: it is as it was.
  const BitMap* changed_records() const { return records_changed_ ? &records_ : nullptr; }

 private:
  void grow_table();

  Filesystem& fs_;
  Clusters& clusters_;
  Mode mode_;
  GrowTable grow_record_table_;
  BitMap records_;
  std::uint64_t record_count_;
  std::uint64_t records_taken_ = 0;
  std::uint64_t bytes_written_ = 0;
  bool records_changed_ = false;
  bool growing_ = false;
};

}  // namespace jh::ntfs

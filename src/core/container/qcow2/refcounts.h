// Reference counts of a qcow2 image's clusters, and the giving of new clusters at its end.
#pragma once

#include <bit>
#include <functional>

#include "core/container/qcow2/header.h"
#include "core/container/qcow2/table_cache.h"

namespace jh::qcow2 {

/// The counts in one refcount block; widths of 1 to 64 bits ("Refcount blocks").
std::uint64_t count_in(ConstByteSpan block, std::uint32_t bits, std::uint64_t index);
void set_count_in(ByteSpan block, std::uint32_t bits, std::uint64_t index, std::uint64_t count);

class Refcounts {
 public:
  /// Both must outlive this; `image`'s table fields follow when the table moves.
  Refcounts(Store& file, Image& image);

  std::uint64_t count(std::uint64_t cluster);
  void set(std::uint64_t cluster, std::uint64_t count) { set_run(cluster, 1, count); }
  /// The same for clusters in a row.
  void set_run(std::uint64_t first, std::uint64_t clusters, std::uint64_t count);
  /// One reference less, for clusters in a row. Throws damaged when there is none.
  void release_run(std::uint64_t first, std::uint64_t clusters);
  void release(std::uint64_t cluster) { release_run(cluster, 1); }
  /// New clusters behind all others, one behind the other, each with one reference. Returns the
  /// first one's offset; the file is made longer and reads as zeros there.
  std::uint64_t allocate(std::uint64_t clusters);
  /// Gives a block of counts another place, which was counted as free.
  void move_block(std::uint64_t index, std::uint64_t to);
  /// Told of clusters in a row, and how many references each has.
  using Counted =
      std::function<void(std::uint64_t first, std::uint64_t clusters, std::uint64_t count)>;
  /// Gives the table of blocks another place, of clusters in a row that were counted as free.
  void move_table(std::uint64_t to);
  /// Forgets what the tables say and makes new ones behind everything, with these counts; those of
  /// the old tables' clusters apart.
  void rebuild(const std::function<void(const Counted& visit)>& for_each_run);

  const std::vector<std::uint64_t>& table() const { return table_; }
  std::uint64_t per_block() const {
    return std::uint64_t{1} << (image_.cluster_bits + 3 - std::countr_zero(image_.refcount_bits));
  }

 private:
  std::uint64_t take(std::uint64_t clusters);
  Buffer* block(std::uint64_t index);
  Buffer& block_for(std::uint64_t index);
  void grow_table(std::uint64_t blocks);

  Store& file_;
  Image& image_;
  std::vector<std::uint64_t> table_;  // offsets of blocks; 0: none, all its counts are 0
  TableCache blocks_;
};

}  // namespace jh::qcow2

// A disk kept in a qcow2 image.
#pragma once

#include "core/container/block_container.h"
#include "core/container/qcow2/refcounts.h"
#include "core/container/qcow2/table_cache.h"
#include "core/container/relocate_tail.h"

namespace jh::qcow2 {

/// Where a compressed cluster lies in the file.
struct CompressedCluster {
  std::uint64_t start = 0;   // of its first sector
  std::uint64_t length = 0;  // whole sectors: where the compressed bytes end is not on record
  std::uint64_t number = 0;  // of the cluster of the disk
};

class Qcow2Container final : public BlockContainer {
 public:
  /// `children`: paths of the images that build on this one already.
  Qcow2Container(Store& file, FileResolver* resolver, std::vector<std::string> children);

  ContainerFacts facts() override;
  void check_growth(Bytes new_size) override;
  void make_ready() override;
  void grow(Bytes new_size) override;
  void check_shrink(Bytes new_size) override;
  void shrink(Bytes new_size) override;
  std::uint64_t relocate_tail(std::uint64_t most) override;
  std::uint64_t close_gaps(std::uint64_t most, bool first) override;
  Bytes size_unit() override { return Bytes(512); }
  bool has_zero_mark() const override { return !below_ || image_.version >= 3; }
  void audit(Findings& findings) override;
  void for_each_snapshot_range(const FileRange& visit) override;
  std::vector<std::uint64_t> kept_by_snapshots() override;

 private:
  std::uint64_t disk_size() const override { return image_.size; }
  std::uint64_t block_size() const override { return image_.cluster(); }
  Extent find(std::uint64_t offset, std::uint64_t length) override;
  void read_compressed(std::uint64_t offset, ByteSpan out) override;
  void put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                  ConstByteSpan content) override;
  void drop_blocks(std::uint64_t first, std::uint64_t count) override;
  void forget_blocks(std::uint64_t first, std::uint64_t count) override;
  void uncover_blocks(std::uint64_t first, std::uint64_t count) override;
  Store& image_file() const override { return file_; }

  /// An L2 entry, with the bitmap behind it where there are subclusters.
  struct Entry {
    std::uint64_t place = 0;
    std::uint64_t bitmap = 0;
  };
  void extend(Extent& extent, std::uint64_t cluster, std::uint64_t length);
  Extent find_in(const Entry& entry, std::uint64_t inside, std::uint64_t length);
  Entry entry_of(std::uint64_t cluster);
  void set_entry(std::uint64_t cluster, const Entry& entry);
  void set_entries(std::uint64_t cluster, std::span<const Entry> fresh);
  Buffer* table(std::uint64_t index);
  Buffer& table_for(std::uint64_t index);
  void read_l1();
  bool is_shared(std::uint64_t at);
  void keep_snapshot_sizes();
  void drop_tables_behind(std::uint64_t disk_size);
  void clear_entries(std::uint64_t first, std::uint64_t count);
  void let_go(std::span<const Entry> entries);
  void let_go(const Entry& entry) { let_go(std::span<const Entry>(&entry, 1)); }
  void cut_file();
  class GapCloser;
  void for_each_compressed(const std::function<void(const CompressedCluster&)>& visit);
  void move_clusters(const MovableBlock& first, std::uint64_t count);
  void relocate_large_tables();
  std::uint64_t cluster_at(const Entry& entry, std::uint64_t cluster) const;
  Refcounts& refcounts();
  Store& data_store() const { return data_ == nullptr ? file_ : *data_; }

  Store& file_;
  Store* data_ = nullptr;  // the external data file
  Image image_;
  std::vector<std::uint64_t> l1_;
  TableCache tables_;                     // L2 tables
  std::unique_ptr<Refcounts> refcounts_;  // when something is first written
  Buffer decompressed_;                   // the compressed cluster read last
  std::uint64_t decompressed_entry_ = 0;
};

/// Makes an empty image of this size, of version 3. `compressed_with_zstd`: compressed clusters
/// are.
struct NewImage {
  std::uint32_t cluster_bits = 16;
  std::uint32_t refcount_order = 4;
  bool zstd = false;
  std::uint32_t version = 3;
  bool extended_l2 = false;
};
void create(Store& file, std::uint64_t disk_size, const NewImage& wanted);

/// Puts compressed clusters, made elsewhere, into a new image, in the order of the disk.
class CompressedWriter {
 public:
  CompressedWriter(Store& file, std::uint64_t disk_size, const NewImage& wanted);
  ~CompressedWriter();
  /// One cluster's content, compressed: smaller than a cluster.
  void put(std::uint64_t cluster, ConstByteSpan compressed);
  /// One that cannot be compressed.
  void put_plain(std::uint64_t cluster, ConstByteSpan content);
  void finish();

 private:
  class Work;
  std::unique_ptr<Work> work_;
};

}  // namespace jh::qcow2

// A disk kept as VMDK: a descriptor, and one or several extents in one or several files.
#pragma once

#include "core/container/vmdk/descriptor.h"
#include "core/container/vmdk/extent.h"
#include "core/store/memory_store.h"
#include "core/store/views.h"

namespace jh::vmdk {

class VmdkContainer final : public Container {
 public:
  VmdkContainer(Store& file, FileResolver* resolver, std::vector<std::string> children);

  ContainerFacts facts() override;
  Store& disk() override { return *disk_; }
  Extent extent_at(std::uint64_t offset, std::uint64_t length) override;
  std::uint64_t blocks_kept() override;
  ImageReader* parent() override { return below_.get(); }
  void check_growth(Bytes new_size) override;
  std::vector<std::string> new_parts(Bytes new_size) override;
  std::vector<std::string> parts_let_go(Bytes new_size) override;
  void make_ready() override;
  void grow(Bytes new_size) override;
  void check_shrink(Bytes new_size) override;
  void shrink(Bytes new_size) override;
  std::uint64_t relocate_tail(std::uint64_t most) override;
  void allocate(std::uint64_t offset, std::uint64_t length) override;
  void unmap(std::uint64_t offset, std::uint64_t length) override;
  bool has_zero_mark() const override;
  void reveal_parent(std::uint64_t offset, std::uint64_t length) override;
  void move_tables_only() override;
  Bytes size_unit() override { return Bytes(sector); }
  void audit(Findings& findings) override;
  const Descriptor& descriptor() const { return descriptor_; }

 private:
  struct DiskExtent {
    std::uint64_t start = 0;  // bytes, on the disk
    std::uint64_t length = 0;
    Store* file = nullptr;     // null: reads as zeros
    std::uint64_t offset = 0;  // in the file, of a flat one
    std::unique_ptr<SparseExtent> sparse;
  };
  /// What growing does: the new length of the last extent, then the lengths of new ones.
  struct Growth {
    std::uint64_t last = 0;
    std::vector<std::pair<std::string, std::uint64_t>> fresh;  // name, bytes
  };

  /// Calls work(extent, offset in it, length) for each sparse one that a range of the disk touches.
  template <class Work>
  void for_each_sparse(std::uint64_t offset, std::uint64_t length, Work work) {
    for (const DiskExtent& extent : extents_) {
      const std::uint64_t from = std::max(offset, extent.start);
      const std::uint64_t to = std::min(offset + length, extent.start + extent.length);
      if (from < to && extent.sparse) work(*extent.sparse, from - extent.start, to - from);
    }
  }
  std::string read_descriptor();
  void write_descriptor();
  void set_cylinders(std::uint64_t disk_size);
  void open_extents();
  void open_extent(std::size_t index, std::uint64_t start);
  void check_overlaps() const;
  std::uint64_t end_in(const Store* file) const;
  bool is_hemmed_in() const;
  static void lengthen(DiskExtent& flat, std::uint64_t length);
  void join();
  bool in_pieces() const { return descriptor_.value("createType").starts_with("twoGb"); }
  Growth plan_growth(std::uint64_t new_size) const;
  std::string piece_name(std::size_t number) const;

  Store& file_;
  FileResolver* resolver_;
  SparseHeader embedded_{};  // when the descriptor lies inside a sparse extent
  bool is_embedded_ = false;
  Descriptor descriptor_;
  std::shared_ptr<Container> below_;
  std::vector<DiskExtent> extents_;
  std::vector<std::unique_ptr<MemoryStore>> zeros_;
  std::unique_ptr<JoinStore> disk_;
};

/// A descriptor's CID: up to eight hexadecimal digits. Nothing: it is no such number.
std::optional<std::uint32_t> parse_content_id(const std::string& text);

std::string new_descriptor(const std::string& kind, std::uint32_t content_id,
                           const std::vector<ExtentLine>& extents, std::uint64_t disk_size,
                           const std::string& adapter);
std::vector<std::string> parent_names(Store& file);
/// Of a descriptor in a file of its own: the files with the disk, as far as it can be read.
std::vector<std::string> part_names(Store& file);

}  // namespace jh::vmdk

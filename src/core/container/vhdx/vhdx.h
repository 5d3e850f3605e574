// A disk kept in a VHDX image: fixed, sparse, or differencing.
#pragma once

#include <map>

#include "core/container/block_container.h"
#include "core/container/vhdx/structure.h"
#include "core/store/scratch_store.h"

namespace jh::vhdx {

class VhdxContainer final : public BlockContainer {
 public:
  VhdxContainer(Store& file, FileResolver* resolver, std::vector<std::string> children);

  ContainerFacts facts() override;
  void check_growth(Bytes new_size) override;
  void make_ready() override;
  void grow(Bytes new_size) override;
  void check_shrink(Bytes new_size) override;
  void shrink(Bytes new_size) override;
  std::uint64_t relocate_tail(std::uint64_t most) override;
  void set_allocation(Allocation allocation) override;
  Bytes size_unit() override {
    return Bytes(std::max(structure_.sector, structure_.physical_sector));
  }
  void audit(Findings& findings) override;
  const Structure& structure() const { return structure_; }

 private:
  std::uint64_t disk_size() const override { return structure_.disk_size; }
  std::uint64_t block_size() const override { return structure_.block_size; }
  Extent find(std::uint64_t offset, std::uint64_t length) override;
  void put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                  ConstByteSpan content) override;
  void drop_blocks(std::uint64_t first, std::uint64_t count) override;
  void forget_blocks(std::uint64_t first, std::uint64_t count) override;
  void uncover_blocks(std::uint64_t first, std::uint64_t count) override;
  void set_blocks(std::uint64_t first, std::uint64_t count, State state);
  Store& image_file() const override { return file_; }

  /// The file, or what it is once its log is replayed.
  Store& view() { return replayed_ ? static_cast<Store&>(*replayed_) : file_; }
  const Buffer& bat_page(std::uint64_t index);
  std::uint64_t entry(std::uint64_t index);
  /// The first entry from `index` on that is not zero, or lies in another page of the BAT.
  std::uint64_t end_of_zeros(std::uint64_t index);
  void for_each_place(const std::function<void(std::uint64_t index, State state, std::uint64_t at,
                                               bool is_bitmap)>& visit);
  void set_entry(std::uint64_t index, std::uint64_t value);
  Extent find_partial(std::uint64_t block, std::uint64_t at, std::uint64_t inside,
                      std::uint64_t length);
  bool is_fixed() const { return (structure_.flags & leave_allocated) != 0; }

  void place_all();

  Store& file_;
  Structure structure_;
  std::unique_ptr<ScratchStore> replayed_;
  std::size_t waiting_ = 0;                // writes in the log
  std::map<std::uint64_t, Buffer> pages_;  // of the BAT, read so far
};

void create(Store& file, std::uint64_t disk_size, bool full, std::uint32_t sector, const Uuid& id);
std::vector<std::string> parent_names(Store& file);
/// The identity of an image's content, and that of its parent's as it is expected. Nothing, and
/// empty: it cannot be read without replaying a log, or it has no parent.
std::optional<Uuid> content_identity(Store& file);
std::string parent_linkage(Store& file);

}  // namespace jh::vhdx

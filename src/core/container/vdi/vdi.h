// A disk kept in a VDI image: sparse, fixed, or differencing.
#pragma once

#include <optional>

#include "core/container/block_container.h"
#include "core/container/vdi/format.h"

namespace jh::vdi {

class VdiContainer final : public BlockContainer {
 public:
  VdiContainer(Store& file, FileResolver* resolver, std::vector<std::string> children);

  ContainerFacts facts() override;
  void check_growth(Bytes new_size) override;
  void make_ready() override;
  void grow(Bytes new_size) override;
  void check_shrink(Bytes new_size) override;
  void shrink(Bytes new_size) override;
  std::uint64_t relocate_tail(std::uint64_t most) override;
  void set_allocation(Allocation allocation) override;
  Bytes size_unit() override { return Bytes(512); }
  void audit(Findings& findings) override;

 private:
  std::uint64_t disk_size() const override { return header_.disk_size.value(); }
  std::uint64_t block_size() const override { return header_.block_size.value(); }
  Extent find(std::uint64_t offset, std::uint64_t length) override;
  void put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                  ConstByteSpan content) override;
  void drop_blocks(std::uint64_t first, std::uint64_t count) override;
  void forget_blocks(std::uint64_t first, std::uint64_t count) override;
  void uncover_blocks(std::uint64_t first, std::uint64_t count) override;
  Store& image_file() const override { return file_; }

  Type type() const { return static_cast<Type>(header_.type.value()); }
  std::uint64_t stride() const { return block_size() + header_.block_extra.value(); }
  std::uint64_t place_of(std::uint64_t number) const {
    return header_.data_offset.value() + number * stride() + header_.block_extra.value();
  }
  void set_entries(std::uint64_t first, const std::vector<std::uint32_t>& entries);
  void write_map(std::uint64_t from, std::uint64_t to);
  void clear_way(std::uint64_t map_end);
  void write_header() { file_.write(0, bytes_of(header_)); }

  void place_all();

  Store& file_;
  Header header_;
  std::vector<std::uint32_t> map_;
};

/// Makes an empty image. `full`: every block has its place from the start.
void create(Store& file, std::uint64_t disk_size, bool full, const Uuid& id);

/// The identity in an image's header, and that of its parent (zeros: none).
std::optional<Uuid> identity(Store& file);
std::optional<Uuid> parent_identity(Store& file);
/// The file beside this one that has the identity of its parent; empty: none.
std::string find_parent(Store& file, FileResolver& resolver);

}  // namespace jh::vdi

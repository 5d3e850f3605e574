// A disk kept in a VHD image: fixed, sparse, or differencing.
#pragma once

#include <map>
#include <optional>

#include "core/container/block_container.h"
#include "core/container/vhd/format.h"

namespace jh::vhd {

/// The footer's or header's sum: the complement of the sum of all bytes but the sum's own.
template <class T>
std::uint32_t checksum_of(T structure) {
  structure.checksum = 0;
  std::uint32_t sum = 0;
  for (const std::uint8_t byte : bytes_of(structure)) sum += byte;
  return ~sum;
}

struct Geometry {
  std::uint16_t cylinders = 0;
  std::uint8_t heads = 0;
  std::uint8_t sectors = 0;
};
/// Cylinders, heads and sectors of a disk ("Appendix: CHS Calculation"); where they would name
/// fewer bytes than it has, the largest ones.
Geometry geometry_of(std::uint64_t disk_size);

class VhdContainer final : public BlockContainer {
 public:
  VhdContainer(Store& file, FileResolver* resolver, std::vector<std::string> children);

  ContainerFacts facts() override;
  void check_growth(Bytes new_size) override;
  void grow(Bytes new_size) override;
  void check_shrink(Bytes new_size) override;
  void shrink(Bytes new_size) override;
  std::uint64_t relocate_tail(std::uint64_t most) override;
  Bytes size_unit() override;
  /// A sector is here, or the parent's: nothing says that it is zero.
  bool has_zero_mark() const override { return !below_; }
  void audit(Findings& findings) override;

 private:
  std::uint64_t disk_size() const override { return footer_.current_size.value(); }
  std::uint64_t block_size() const override { return block_size_; }
  Extent find(std::uint64_t offset, std::uint64_t length) override;
  void put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                  ConstByteSpan content) override;
  void drop_blocks(std::uint64_t first, std::uint64_t count) override;
  void forget_blocks(std::uint64_t first, std::uint64_t count) override;
  void uncover_blocks(std::uint64_t first, std::uint64_t count) override;
  Store& image_file() const override { return file_; }

  Type type() const { return static_cast<Type>(footer_.type.value()); }
  std::uint64_t bitmap_size() const { return round_up(ceil_div(block_size_ / sector, 8), sector); }
  void read_footer();
  void read_header();
  std::vector<std::string> read_parent_names();
  /// Where the file keeps the parent's names: [offset, end), in whole sectors.
  std::vector<std::pair<std::uint64_t, std::uint64_t>> locator_ranges() const;
  const Buffer& bitmap(std::uint64_t block);
  void fill_bitmap(std::uint64_t block);
  void set_entry(std::uint64_t block, std::uint32_t entry);
  void grow_table(std::uint64_t entries);
  void write_footer(std::uint64_t at);
  void seal_header();
  void set_size(std::uint64_t disk_size);

  Store& file_;
  Footer footer_{};
  Header header_{};
  std::uint64_t end_ = 0;            // of what the file holds: its last footer begins there
  bool backup_footer_only_ = false;  // the one at the end is damaged
  std::uint64_t block_size_ = 2U << 20;
  std::vector<std::uint32_t> table_;
  std::map<std::uint64_t, Buffer> bitmaps_;
};

void create(Store& file, std::uint64_t disk_size, bool full, const Uuid& id);
std::vector<std::string> parent_names(Store& file);
/// The identity in an image's footer, and that of its parent. Nothing: it cannot be read, or it has
/// no parent.
std::optional<Uuid> identity(Store& file);
std::optional<Uuid> parent_identity(Store& file);

}  // namespace jh::vhd

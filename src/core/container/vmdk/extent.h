// A sparse extent of a VMDK disk: grains found through a directory of tables, in one file.
#pragma once

#include <map>

#include "core/container/block_container.h"
#include "core/container/vmdk/format.h"

namespace jh::vmdk {

class SparseExtent final : public BlockContainer {
 public:
  /// `below`: what the disk's parent has; this extent begins at `start` of it. May be null.
  SparseExtent(Store& file, std::shared_ptr<Container> below, std::uint64_t start);

  ContainerFacts facts() override;
  void check_growth(Bytes new_size) override;
  void make_ready() override;
  void grow(Bytes new_size) override;
  void shrink(Bytes new_size) override;
  std::uint64_t relocate_tail(std::uint64_t most) override;
  Bytes size_unit() override { return Bytes(sector); }
  bool has_zero_mark() const override {
    return !below_ || (header_.flags.value() & flag::zero_grains) != 0;
  }
  void audit(Findings& findings) override;

  bool is_compressed() const { return (header_.flags.value() & flag::compressed) != 0; }
  bool is_unclean() const { return header_.unclean != 0; }
  Store& file() { return file_; }

 private:
  std::uint64_t disk_size() const override { return header_.capacity.value() * sector; }
  std::uint64_t block_size() const override { return header_.grain.value() * sector; }
  Extent find(std::uint64_t offset, std::uint64_t length) override;
  void read_compressed(std::uint64_t offset, ByteSpan out) override;
  void put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                  ConstByteSpan content) override;
  void drop_blocks(std::uint64_t first, std::uint64_t count) override;
  void forget_blocks(std::uint64_t first, std::uint64_t count) override;
  void uncover_blocks(std::uint64_t first, std::uint64_t count) override;
  Store& image_file() const override { return file_; }

  using Directory = std::vector<std::uint32_t>;  // sectors of tables; 0: none
  void read_header();
  Directory read_directory(std::uint64_t at, std::uint64_t tables) const;
  Directory make_tables(std::uint64_t count);
  std::uint64_t tables_for(std::uint64_t bytes) const {
    return ceil_div(bytes, block_size() * entries_per_table);
  }
  std::uint32_t entry(std::uint64_t grain);
  void set_entries(std::uint64_t grain, const std::vector<std::uint32_t>& entries);
  void grow_directory(std::uint64_t at, Directory& directory, std::uint64_t tables, Le64& field);
  void write_header() { file_.write(0, bytes_of(header_)); }

  Store& file_;
  SparseHeader header_{};
  Directory directory_;
  Directory spare_;                         // empty: none
  std::map<std::uint64_t, Buffer> tables_;  // read so far
  Buffer decompressed_;
  std::uint32_t decompressed_entry_ = 0;
};

/// Makes an empty extent; `descriptor`: text inside of it, may be empty.
void create_extent(Store& file, std::uint64_t disk_size, const std::string& descriptor);

/// Writes a stream of compressed grains, from the beginning to the end.
class StreamWriter {
 public:
  static constexpr std::uint64_t grain = 65536;
  StreamWriter(Store& file, std::uint64_t disk_size, const std::string& descriptor);
  /// A grain's content, compressed with zlib; in order.
  void put(std::uint64_t number, ConstByteSpan compressed);
  void finish();

 private:
  void append(ConstByteSpan data);
  std::uint32_t append_table();

  Store& file_;
  SparseHeader header_{};
  std::uint64_t at_ = 0;
  std::vector<std::uint32_t> directory_;
  Buffer table_;
  std::uint64_t table_number_ = 0;
  bool table_used_ = false;
};

}  // namespace jh::vmdk

// What all forms share that keep a disk in blocks: reading through parents, writing into blocks
// that have a place, and giving a place to those that have none.
#pragma once

#include "core/container/container.h"
#include "core/container/relocate_tail.h"

namespace jh {

class BlockContainer : public Container {
 public:
  Store& disk() override { return disk_; }
  Extent extent_at(std::uint64_t offset, std::uint64_t length) override;
  std::uint64_t blocks_kept() override;
  ImageReader* parent() override { return below_.get(); }
  void allocate(std::uint64_t offset, std::uint64_t length) override;
  void unmap(std::uint64_t offset, std::uint64_t length) override;
  void reveal_parent(std::uint64_t offset, std::uint64_t length) override;
  void move_tables_only() override { tables_only_ = true; }

 protected:
  BlockContainer() : disk_(*this) {}

  virtual std::uint64_t disk_size() const = 0;
  virtual std::uint64_t block_size() const = 0;
  /// What this image itself has at `offset`, at most `length` long (which stays inside the disk).
  virtual Extent find(std::uint64_t offset, std::uint64_t length) = 0;
  /// Reads a compressed piece.
  virtual void read_compressed(std::uint64_t offset, ByteSpan out);
  /// Gives new places, one behind the other, to `count` blocks from `first` on. They hold zeros but
  /// for `content`, which begins `inside` bytes from the first one's start. What they had before is
  /// let go.
  virtual void put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                          ConstByteSpan content) = 0;
  /// Whole blocks that are to read as zeros from now on.
  virtual void drop_blocks(std::uint64_t first, std::uint64_t count) = 0;
  /// The same, and their places are free.
  virtual void forget_blocks(std::uint64_t first, std::uint64_t count) = 0;
  /// Blocks that have no place from now on, and whose parts are the parent's.
  virtual void uncover_blocks(std::uint64_t first, std::uint64_t count) = 0;
  /// Copies a block, or a table, to a place in the file that nothing refers to. What is missing at
  /// the file's end reads as zeros.
  void copy_within(Store& file, std::uint64_t from, std::uint64_t to, std::uint64_t length);
  /// The same of blocks of that length; those that lie side by side in both places move together.
  void copy_within(Store& file, const std::vector<MovableBlock>& moves, std::uint64_t length);
  /// Where the disk's last block would end in the file it lies in, were it whole; 0: it has no
  /// place. A block that the disk does not fill may have been cut short; growing makes it whole.
  std::uint64_t end_of_last_block();
  /// Before the disk ends at `new_size`: what its last block holds behind becomes zero, for that is
  /// what growing again must show.
  void clear_tail(std::uint64_t new_size);
  /// Content is not moved, only what says where it is.
  bool tables_only() const { return tables_only_; }
  virtual Store& image_file() const = 0;

  /// The image this one builds on, and where in its disk this one begins.
  std::shared_ptr<Container> below_;
  std::uint64_t below_start_ = 0;

 private:
  class Disk final : public Store {
   public:
    explicit Disk(BlockContainer& owner) : owner_(owner) {}
    std::uint64_t size() const override { return owner_.disk_size(); }
    void read(std::uint64_t offset, ByteSpan out) override;
    void write(std::uint64_t offset, ConstByteSpan data) override { put(offset, data, false); }
    void write_unreferenced(std::uint64_t offset, ConstByteSpan data) override {
      put(offset, data, true);
    }
    Range map(std::uint64_t offset, std::uint64_t length) override;
    Location locate(std::uint64_t offset, std::uint64_t length) override;
    std::uint64_t share_unreferenced(std::uint64_t offset, const Location& source) override;
    void discard(std::uint64_t offset, std::uint64_t length) override;
    void flush() override { owner_.image_file().flush(); }
    void resize(std::uint64_t new_size) override;
    std::string name() const override { return owner_.image_file().name(); }

   private:
    Extent own_extent(std::uint64_t offset, std::uint64_t length);
    void put(std::uint64_t offset, ConstByteSpan data, bool unreferenced);
    std::size_t put_in_new_blocks(std::uint64_t offset, ConstByteSpan data, bool zero_now);

    BlockContainer& owner_;
  };

  /// The whole blocks inside a range: the first one, and how many.
  std::pair<std::uint64_t, std::uint64_t> whole_blocks(std::uint64_t offset,
                                                       std::uint64_t length) const;
  bool tables_only_ = false;
  Extent from_below(std::uint64_t offset, std::uint64_t length);

  Disk disk_;
};

}  // namespace jh

// What a stage writes to the image before the seal: bytes that the present state does not refer to.
// Inside the old image their old bytes are kept in the ledger first.
#pragma once

#include "core/base/ranges.h"
#include "core/store/ledger.h"
#include "core/store/store.h"

namespace jh {

class DirectWrites {
 public:
  static constexpr std::uint64_t page_size = 4096;

  DirectWrites(Store& base, Ledger& ledger, std::uint32_t image)
      : base_(base), ledger_(ledger), image_(image), old_size_(base.size()) {}

  /// From here on nothing is kept in the ledger, and no sums are taken.
  void trust() { trusted_ = true; }
  bool is_trusted() const { return trusted_; }
  std::uint64_t old_size() const { return old_size_; }

  /// Whole pages inside the old image.
  void write(std::uint64_t offset, ConstByteSpan data);
  /// Behind the old image's end, where nothing has to be kept.
  void write_past_end(std::uint64_t offset, ConstByteSpan data);
  /// Brings out what waits for its old bytes to be kept.
  void spill();
  void begin_flush();
  void flush();

  /// The image's bytes without what waits; past its present end there are zeros.
  void read_base(std::uint64_t offset, ByteSpan out);
  /// The image's bytes, with what waits.
  void read(std::uint64_t offset, ByteSpan out);
  Run map(std::uint64_t offset, std::uint64_t length);
  /// Whether the page at `offset` was written, or waits to be.
  bool has_page(std::uint64_t offset) const;
  /// Any bytes of a page that has_page() knows.
  void write_again(std::uint64_t offset, ConstByteSpan data);

  /// Bytes written, or waiting to be.
  std::uint64_t total() const;
  std::uint64_t waiting() const { return waiting_bytes_; }
  /// What is in the image by now.
  const Ranges& done() const { return done_; }
  /// Calls visit(offset, length, CRC-32C) for each piece, at most ledger::max_payload long, of what
  /// was written in front of `end`, in order. What no sum was taken of is read back.
  void for_each_sum(std::uint64_t end,
                    const std::function<void(std::uint64_t, std::uint64_t, std::uint32_t)>& visit);

  /// The image before the change; past its old end there are zeros.
  void read_old(std::uint64_t offset, ByteSpan out);
  Run map_old(std::uint64_t offset, std::uint64_t length);

 private:
  struct Sum {
    std::uint64_t length = 0;
    std::uint32_t crc = 0;
  };
  /// Bytes that the ledger has kept: how many, and where; 0: they were zeros.
  struct Kept {
    std::uint64_t length = 0;
    std::uint64_t at = 0;
  };

  std::uint64_t ready_from(std::uint64_t offset);
  std::uint64_t not_kept_from(std::uint64_t offset) const;
  void keep_old(std::uint64_t offset, std::uint64_t length);
  std::uint64_t keep_run(std::uint64_t offset, std::uint64_t length, const Run& run);
  void wait(std::uint64_t offset, ConstByteSpan data);
  void bring_out(std::uint64_t offset, ConstByteSpan data);
  void note_sum(std::uint64_t offset, ConstByteSpan data);

  Store& base_;
  Ledger& ledger_;
  std::uint32_t image_;
  std::uint64_t old_size_;
  bool trusted_ = false;
  std::map<std::uint64_t, Buffer> waiting_;  // disjoint: start → bytes
  std::uint64_t waiting_bytes_ = 0;
  Ranges done_;
  std::map<std::uint64_t, Kept> kept_;  // disjoint
  std::map<std::uint64_t, Sum> sums_;   // disjoint
};

}  // namespace jh

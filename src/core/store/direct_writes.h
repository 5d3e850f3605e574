// What a stage writes to the image before the seal: bytes that the present state does not refer to.
// Losing them harms nothing, and neither does keeping them, so nothing waits for the ledger: it
// gets the old bytes (for an undo) and the checksums of the new ones on the way.
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

  /// From here on old bytes are not kept: nobody will take the change back.
  void trust() { trusted_ = true; }
  bool is_trusted() const { return trusted_; }
  std::uint64_t old_size() const { return old_size_; }

  /// Whole pages inside the old image, or anything behind its end; or any bytes of a page that
  /// has_page() knows.
  void write(std::uint64_t offset, ConstByteSpan data);
  /// The same of bytes that `from` has at `source`, without copying them: returns how many, from
  /// the first one on, are there now; 0: the host cannot, and they are to be written. The ledger
  /// shares them too, which tells what was written here.
  std::uint64_t share(std::uint64_t offset, Store& from, std::uint64_t source,
                      std::uint64_t length);
  /// Gives the image its old length and old bytes again, for the one who began the change and drops
  /// it. Needs no room: what was written behind the end goes first.
  void put_back();
  /// Takes the checksums that are still missing: of sectors that were written in parts.
  void finish_sums();
  void begin_flush();
  void flush();

  /// The image's bytes; past its present end there are zeros.
  void read(std::uint64_t offset, ByteSpan out);
  Range map(std::uint64_t offset, std::uint64_t length);
  /// Whether anything was written to the page at `offset`.
  bool has_page(std::uint64_t offset) const { return overlaps(done_, offset, offset + page_size); }

  /// Bytes written.
  std::uint64_t total() const;
  const Ranges& done() const { return done_; }
  /// Of those, how many share blocks with where they were.
  std::uint64_t shared() const { return shared_; }

  /// The image before the change; past its old end there are zeros.
  void read_old(std::uint64_t offset, ByteSpan out);
  Range map_old(std::uint64_t offset, std::uint64_t length);

 private:
  /// Bytes that the ledger has kept: how many, and where; 0: they were zeros.
  struct Kept {
    std::uint64_t length = 0;
    std::uint64_t at = 0;
    bool shared = false;
  };

  void keep_old(std::uint64_t offset, std::uint64_t length);
  std::uint64_t keep_run(std::uint64_t offset, std::uint64_t length);
  void append_sums(std::uint64_t offset, ConstByteSpan data);

  Store& base_;
  Ledger& ledger_;
  std::uint32_t image_;
  std::uint64_t old_size_;
  bool trusted_ = false;
  Ranges done_;
  std::uint64_t shared_ = 0;            // bytes
  Ranges unsummed_;                     // whole sectors, but for the image's last one
  std::map<std::uint64_t, Kept> kept_;  // disjoint
};

}  // namespace jh

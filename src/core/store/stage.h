// Stage: a store on top of an image, in which a change is carried out before it is real.
//
// Writes to bytes that the present state refers to are held in memory, page by page, and reads see
// them. Writes to bytes that the present state does not refer to go to the image itself, after the
// ledger has kept what was there; so much of it costs no memory and is written once.
#pragma once

#include <map>
#include <memory>

#include "core/store/direct_writes.h"

namespace jh {

class Stage final : public Store {
 public:
  static constexpr std::uint64_t page_size = DirectWrites::page_size;

  /// `base` and `ledger` must outlive the stage; `index` is the image's place in the ledger.
  Stage(Store& base, Ledger& ledger, std::uint32_t index);

  std::uint64_t size() const override { return size_; }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  void write_unreferenced(std::uint64_t offset, ConstByteSpan data) override;
  Run map(std::uint64_t offset, std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  /// Direct writes only; held ones become durable with the seal.
  void flush() override;
  void begin_flush() override;
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return base_.name(); }

  /// From here on what is written as unreferenced goes to the image without its old bytes being
  /// kept: for changes that nobody will take back.
  void trust_unreferenced() { direct_.trust(); }

  Store& base() { return base_; }
  std::uint64_t old_size() const { return direct_.old_size(); }
  std::uint32_t index() const { return index_; }
  /// The image as it was before the change; past its old end there are zeros.
  void read_old(std::uint64_t offset, ByteSpan out) { direct_.read_old(offset, out); }
  Run map_old(std::uint64_t offset, std::uint64_t length) {
    return direct_.map_old(offset, length);
  }

  /// Bytes held in memory.
  std::uint64_t held() const { return pages_.size() * page_size + direct_.waiting(); }
  /// Bytes written past the stage so far.
  std::uint64_t written_directly() const { return direct_.total(); }

  /// Calls visit(offset, old bytes, new bytes) for each run of held bytes that differ, at most
  /// ledger::max_payload long, in order.
  void for_each_change(
      const std::function<void(std::uint64_t, ConstByteSpan, ConstByteSpan)>& visit);
  /// Brings out what waits to be written directly (flush() makes it durable); then calls
  /// visit(offset, length) for each range written directly, in order.
  void for_each_direct(const std::function<void(std::uint64_t, std::uint64_t)>& visit);
  /// Calls visit(offset, length, CRC-32C) for each piece, at most ledger::max_payload long, of what
  /// was written directly, in order.
  void for_each_sum(const std::function<void(std::uint64_t, std::uint64_t, std::uint32_t)>& visit);
  /// What lies behind the new end and is, byte for byte, somewhere in front of an end as well.
  struct Moved {
    std::uint64_t length = 0;
    std::uint32_t image = 0;  // index of the one that has it now
    std::uint64_t at = 0;
    std::uint32_t crc = 0;  // CRC-32C
  };
  /// The bytes of this image from `from` on, before the change, are those of `to` from `at` on,
  /// after it, and both have this CRC-32C: an undo can fetch them from there. Who says so has
  /// compared them. Only a hint: what an undo has no use for is passed over.
  void note_moved(std::uint64_t from, const Stage& to, std::uint64_t at, std::uint64_t length,
                  std::uint32_t crc);
  void for_each_moved(const std::function<void(std::uint64_t, const Moved&)>& visit) const;
  /// Calls visit(offset, length) for each range of the image that lies behind its new end, still
  /// holds its old bytes, and is not known to have moved; in order.
  void for_each_cut(const std::function<void(std::uint64_t, std::uint64_t)>& visit);

 private:
  using Page = std::array<std::uint8_t, page_size>;

  void put(std::uint64_t offset, ConstByteSpan data, bool unreferenced);
  std::uint64_t direct_part(std::uint64_t offset, std::uint64_t length) const;
  Page& hold(std::uint64_t number, bool whole);

  Store& base_;
  std::uint32_t index_;
  std::uint64_t direct_from_;  // from here on nothing is referenced: past the old end
  std::uint64_t size_;
  std::map<std::uint64_t, std::unique_ptr<Page>> pages_;
  DirectWrites direct_;
  std::map<std::uint64_t, Moved> moved_;  // disjoint
};

}  // namespace jh

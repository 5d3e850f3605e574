// Stage: a store on top of an image, in which a change is carried out before it is real.
//
// Writes to bytes that the present state refers to are held in memory, page by page, and reads see
// them. Writes to bytes that the present state does not refer to go to the image itself, after the
// ledger has kept what was there; so much of it costs no memory and is written once.
#pragma once

#include <map>
#include <memory>

#include "core/base/ranges.h"
#include "core/store/ledger.h"
#include "core/store/store.h"

namespace jh {

class Stage final : public Store {
 public:
  static constexpr std::uint64_t page_size = 4096;

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
  void trust_unreferenced() { trusted_ = true; }

  Store& base() { return base_; }
  std::uint64_t old_size() const { return old_size_; }
  std::uint32_t index() const { return index_; }
  /// The image's bytes before the change; past its old end there are zeros.
  void read_old(std::uint64_t offset, ByteSpan out);
  /// Whether bytes of this range were written directly since.
  bool has_old(std::uint64_t offset, std::uint64_t length) const;

  /// Bytes held in memory.
  std::uint64_t held() const { return pages_.size() * page_size; }
  /// Bytes written past the stage so far.
  std::uint64_t written_directly() const;

  /// Calls visit(offset, old bytes, new bytes) for each run of held bytes that differ, at most
  /// ledger::max_payload long, in order.
  void for_each_change(
      const std::function<void(std::uint64_t, ConstByteSpan, ConstByteSpan)>& visit);
  /// Brings out what waits to be written directly (flush() makes it durable); then calls
  /// visit(offset, length) for each range written directly, in order.
  void for_each_direct(const std::function<void(std::uint64_t, std::uint64_t)>& visit);
  /// Calls visit(offset, length) for each range of the image that lies behind its new end and still
  /// holds its old bytes, in order.
  void for_each_cut(const std::function<void(std::uint64_t, std::uint64_t)>& visit);

 private:
  struct Page {
    std::array<std::uint8_t, page_size> data;
    bool unreferenced = false;  // as a whole: may be written directly
  };

  void put(std::uint64_t offset, ConstByteSpan data, bool unreferenced);
  Page& hold(std::uint64_t number, bool whole);
  void base_read(std::uint64_t offset, ByteSpan out);
  void write_past_end(std::uint64_t offset, ConstByteSpan data);
  std::vector<std::pair<std::uint64_t, std::uint64_t>> waiting_runs() const;
  void keep_old(std::uint64_t offset, std::uint64_t length);
  void spill();

  Store& base_;
  Ledger& ledger_;
  std::uint32_t index_;
  std::uint64_t old_size_;
  std::uint64_t direct_from_;  // from here on nothing is referenced: past the old end
  std::uint64_t size_;
  std::map<std::uint64_t, std::unique_ptr<Page>> pages_;
  std::uint64_t written_since_ = 0;  // directly, since the host was told of it
  bool trusted_ = false;
  std::uint64_t waiting_ = 0;  // held pages marked unreferenced
  Ranges direct_;              // written directly so far
  /// Bytes that the ledger has kept, disjoint: start → length, and where; 0: they were zeros.
  struct Kept {
    std::uint64_t length = 0;
    std::uint64_t at = 0;
  };
  std::map<std::uint64_t, Kept> kept_;
};

}  // namespace jh

// Stage: a store on top of an image, in which a change is carried out before it is real.
//
// Writes to bytes that the present state refers to are held, page by page, and reads see them: in
// memory up to a bound, beyond it in the ledger. Writes to bytes that the present state does not
// refer to go to the image itself, so that much of it costs no memory and is written once.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <unordered_map>

#include "core/store/direct_writes.h"

namespace jh {

class Stage final : public Store {
 public:
  static constexpr std::uint64_t page_size = DirectWrites::page_size;
  /// Held in memory at most; further pages are spilled in the ledger.
  static constexpr std::uint64_t most_in_memory = 32U << 20;

  /// What happens to writes behind the old end. `held`: the file keeps its length until the seal,
  /// since it is what the guest takes the disk's size from, or what the form looks for at its end.
  /// `direct`: the form's own tables say what of the file is in use.
  enum class Tail { held, direct };

  /// `base` and `ledger` must outlive the stage; `index` is the image's place in the ledger.
  Stage(Store& base, Ledger& ledger, std::uint32_t index, Tail tail = Tail::direct);

  std::uint64_t size() const override { return size_; }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  void write_unreferenced(std::uint64_t offset, ConstByteSpan data) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  /// Of this stage or another one, what its image holds and is not to be replaced.
  std::uint64_t share_unreferenced(std::uint64_t offset, const Location& source) override;
  bool may_share() const override { return ledger_.may_share(); }
  /// How many bytes from `offset` on are, in the host's blocks, those that the image of `from` had
  /// at `there` before the change; 0: that is not known.
  std::uint64_t blocks_of_before(std::uint64_t offset, Stage& from, std::uint64_t there,
                                 std::uint64_t length);
  void discard(std::uint64_t offset, std::uint64_t length) override;
  /// Direct writes only; held ones become durable with the seal.
  void flush() override;
  void begin_flush() override;
  /// What lies behind a new end that comes in front of the old one is gone for good: it reads as
  /// zeros if the end goes back.
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return base_.name(); }

  /// From here on what is written as unreferenced goes to the image without its old bytes being
  /// kept: for changes that nobody will take back.
  void trust_unreferenced() { direct_.trust(); }
  /// The image's first page is not closed while the change is applied: other files of the disk are,
  /// and this one says which they are.
  void leave_front_open() { closes_front_ = false; }
  bool closes_front() const { return closes_front_; }
  /// Before the first write.
  void set_tail(Tail tail) { tail_ = tail; }
  /// The only places inside the old image that may be written directly, whatever a caller says is
  /// unreferenced: a layer knows what it has let go, but not that the old state still needs it.
  void allow_direct(Ranges places) { allowed_ = std::move(places); }
  void finish_sums() { direct_.finish_sums(); }
  void put_back() { direct_.put_back(); }

  Store& base() { return base_; }
  std::uint64_t old_size() const { return direct_.old_size(); }
  std::uint32_t index() const { return index_; }
  /// The image as it was before the change; past its old end there are zeros.
  void read_old(std::uint64_t offset, ByteSpan out) { direct_.read_old(offset, out); }
  Range map_old(std::uint64_t offset, std::uint64_t length) {
    return direct_.map_old(offset, length);
  }

  /// Bytes held in memory, and in all.
  std::uint64_t held_in_memory() const { return in_memory_ * page_size; }
  std::uint64_t held() const { return pages_.size() * page_size; }
  /// Bytes written past the stage so far.
  std::uint64_t written_directly() const { return direct_.total(); }
  /// Of those, how many share blocks with where they were.
  std::uint64_t shared() const { return direct_.shared(); }

  /// A run of whole pages (but for the image's last one) that the seal will replace.
  struct Change {
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    ConstByteSpan old;          // empty: nothing was there
    ConstByteSpan fresh;        // empty when they are spilled
    std::uint64_t spilled = 0;  // where in the ledger the new bytes are already; 0: nowhere
    std::uint32_t crc = 0;      // CRC-32C of those that are spilled
    bool repeated = false;      // other pages hold some of them too
  };
  /// Calls visit for each run of pages that differ, at most half of ledger::max_payload long: first
  /// those that were written, then those that were let go, each in order.
  void for_each_change(const std::function<void(const Change&)>& visit);
  /// The same in sectors of 512 bytes, and what was written directly, without the bytes.
  Ranges changed_sectors();
  /// The new bytes of a run are in the ledger from `at` on: who has the same need not bring them.
  void note_parked(const Change& change, std::uint64_t at);
  /// Calls visit(offset, length) for each range that was written directly and is inside the image.
  void for_each_direct(const std::function<void(std::uint64_t, std::uint64_t)>& visit);

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
  struct Content {
    std::unique_ptr<Page> bytes;
    std::uint64_t spilled = 0;  // where in the ledger they are; 0: not yet
  };
  /// Pages of the same bytes may have one content: see content_of().
  using Held = std::shared_ptr<Content>;

  // How many bytes from `offset` on, at most `length`, are those of the image itself.
  std::uint64_t unstaged(std::uint64_t offset, std::uint64_t length) const;
  // The same of the state before the change.
  std::uint64_t untouched(std::uint64_t offset, std::uint64_t length) const;
  void put(std::uint64_t offset, ConstByteSpan data, bool unreferenced);
  std::uint64_t direct_part(std::uint64_t offset, std::uint64_t length) const;
  Page& hold(std::uint64_t number);
  void hold_whole(std::uint64_t number, ConstByteSpan page);
  Held content_of(ConstByteSpan page);
  void read_page(const Content& page, ByteSpan out, std::uint64_t from);
  void make_room();
  void park();
  void read_old_pages(std::uint64_t at, std::uint64_t length, Buffer& out);
  void zero_bytes(std::uint64_t offset, std::uint64_t length);
  void zero_pages(std::uint64_t first, std::uint64_t last);
  template <class Visit>
  void held_pages(const Visit& visit);
  void changed_pages(const std::function<void(const Change&)>& visit);
  void zeroed_data(const std::function<void(std::uint64_t, ConstByteSpan)>& visit);

  Store& base_;
  Ledger& ledger_;
  std::uint32_t index_;
  Tail tail_;
  std::uint64_t direct_from_;  // from here on nothing is referenced: past the old end
  std::uint64_t size_;
  std::map<std::uint64_t, Held> pages_;
  std::unordered_multimap<std::uint32_t, std::weak_ptr<Content>> known_;  // by CRC-32C
  std::uint64_t in_memory_ = 0;  // contents whose bytes are
  bool closes_front_ = true;
  std::optional<Ranges> allowed_;  // nothing: everywhere
  Ranges zeroed_;  // whole pages that read as zeros, whatever the image holds; none of pages_
  DirectWrites direct_;
  std::map<std::uint64_t, Buffer> old_pages_;  // as they were found, by their first byte
  std::uint64_t old_kept_ = 0;                 // bytes of them
  std::map<std::uint64_t, Moved> moved_;       // disjoint
};

}  // namespace jh

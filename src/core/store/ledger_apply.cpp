#include "core/store/ledger_apply.h"

#include <fmt/format.h>

#include "core/base/checksum.h"

namespace jh {

using ledger::RecordKind;

namespace {

// Writes entries in order, those side by side together.
class WriteCoalescer {
 public:
  explicit WriteCoalescer(const std::vector<Store*>& images) : images_(images) {}
  ~WriteCoalescer() = default;
  WriteCoalescer(const WriteCoalescer&) = delete;
  WriteCoalescer& operator=(const WriteCoalescer&) = delete;

  /// `data` empty: zeros.
  void write(std::uint32_t image, std::uint64_t offset, std::uint64_t length, ConstByteSpan data) {
    constexpr std::uint64_t worth_a_hole = 65536;
    constexpr std::uint64_t large_enough = ledger::max_payload / 4;
    if (data.empty() && length >= worth_a_hole) {
      finish();
      Store& store = *images_[image];
      discard_data(store, offset, std::min(length, store.size() - std::min(store.size(), offset)));
      return;
    }
    if (data.size() >= large_enough) {
      finish();
      images_[image]->write(offset, data);
      return;
    }
    const bool joins = !waiting_.empty() && image == image_ && offset == start_ + waiting_.size() &&
                       waiting_.size() < ledger::max_payload;
    if (!joins) {
      finish();
      image_ = image;
      start_ = offset;
    }
    if (data.empty())
      waiting_.resize(waiting_.size() + length);
    else
      waiting_.insert(waiting_.end(), data.begin(), data.end());
  }

  void finish() {
    if (!waiting_.empty()) images_[image_]->write(start_, waiting_);
    waiting_.clear();
  }

 private:
  const std::vector<Store*>& images_;
  std::uint32_t image_ = 0;
  std::uint64_t start_ = 0;
  Buffer waiting_;
};

void flush_all(const std::vector<Store*>& images) {
  for (Store* image : images) image->flush();
}

void set_size(Store& image, std::uint64_t size) {
  if (image.size() == size) return;
  image.resize(size);
  image.flush();
}

// Fetches back what moved, as long as nothing is put back where it is now.
void fetch_moved(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images) {
  bool any = false;
  for (std::size_t i = 0; i < images.size(); ++i)
    for (const auto& [start, moved] : index.images[i].moved) {
      const Buffer bytes = read_buffer(*images[moved.image], moved.at, moved.length);
      ensure(crc32c(bytes) == moved.crc, "what moved was checked before it is fetched");
      images[i]->write(start, bytes);
      any = true;
    }
  if (!any) return;
  flush_all(images);
  ledger.mark_fetched();
}

}  // namespace

void apply_changes(Ledger& ledger, const std::vector<Store*>& images) {
  std::vector<std::uint64_t> sizes;
  for (const Ledger::Image& image : ledger.images()) sizes.push_back(image.old_size);
  ledger.for_each(
      [&](const Ledger::Entry& entry) {
        if (entry.kind == RecordKind::new_size) sizes[entry.image] = entry.offset;
      },
      /*bytes=*/false);
  for (std::size_t i = 0; i < images.size(); ++i)
    if (images[i]->size() < sizes[i]) images[i]->resize(sizes[i]);
  WriteCoalescer coalescer(images);
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::after)
      coalescer.write(entry.image, entry.offset, entry.length, entry.payload);
  });
  coalescer.finish();
  flush_all(images);
  for (std::size_t i = 0; i < images.size(); ++i) set_size(*images[i], sizes[i]);
}

void put_back(Ledger& ledger, const LedgerIndex& index, const std::vector<Store*>& images) {
  for (std::size_t i = 0; i < images.size(); ++i)
    if (images[i]->size() < index.images[i].old_size) images[i]->resize(index.images[i].old_size);
  if (!ledger.is_fetched()) fetch_moved(ledger, index, images);
  WriteCoalescer coalescer(images);
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind != RecordKind::before_direct && entry.kind != RecordKind::before &&
        entry.kind != RecordKind::cut)
      return;
    // A page past the old end vanishes when the file is cut there.
    const std::uint64_t old_size = index.images[entry.image].old_size;
    if (entry.offset >= old_size) return;
    const std::uint64_t length = std::min(entry.length, old_size - entry.offset);
    if (entry.shared) {
      coalescer.finish();
      ledger.give_back(entry.at, *images[entry.image], entry.offset, length);
      return;
    }
    coalescer.write(entry.image, entry.offset, length,
                    entry.zero ? ConstByteSpan() : ConstByteSpan(entry.payload).first(length));
  });
  coalescer.finish();
  flush_all(images);
  for (std::size_t i = 0; i < images.size(); ++i) set_size(*images[i], index.images[i].old_size);
}

}  // namespace jh

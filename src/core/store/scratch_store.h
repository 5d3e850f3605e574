// A store whose changes stay in memory, or beside it: to see what a filesystem looks like once its
// journal is replayed, or an image once it is compacted, without touching it.
#pragma once

#include <memory>

#include "core/base/ranges.h"
#include "core/store/memory_store.h"

namespace jh {

class ScratchStore final : public Store {
 public:
  /// `below` must outlive the scratch store and is only read.
  explicit ScratchStore(Store& below) : ScratchStore(below, below.size()) {}
  /// The same, made longer: what lies past the end of the store below reads as zeros.
  ScratchStore(Store& below, std::uint64_t size)
      : below_(below), shown_(below.size()), overlay_(size, below.name()) {}

  /// Of what is written no more than this stays in memory: the rest goes to `spill`, an empty
  /// store.
  ScratchStore(Store& below, std::unique_ptr<Store> spill, std::uint64_t most_in_memory)
      : ScratchStore(below) {
    spill_ = std::move(spill);
    spill_->resize(size());
    most_in_memory_ = most_in_memory;
  }

  std::uint64_t size() const override { return overlay_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  /// Of what was written here: in this store, which is no file.
  Location locate(std::uint64_t offset, std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override {}
  /// Here too: what is cut off does not come back.
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return below_.name(); }

  /// Whether anything in the range was written.
  bool is_changed(std::uint64_t offset, std::uint64_t length);
  /// Bytes of the pages that were written, at most.
  std::uint64_t changed() const;

 private:
  // What is not in memory.
  void read_rest(std::uint64_t offset, ByteSpan out);
  void spill_if_full();

  Store& below_;
  std::uint64_t shown_;  // bytes of it that are still to be seen
  MemoryStore overlay_;  // whole pages; a hole shows what was spilled, or lies below
  std::unique_ptr<Store> spill_;
  std::uint64_t most_in_memory_ = UINT64_MAX;
  Ranges spilled_;
};

}  // namespace jh

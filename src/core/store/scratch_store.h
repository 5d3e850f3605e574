// A store whose changes stay in memory: to see what a filesystem looks like once its journal is
// replayed, without touching the image.
#pragma once

#include <memory>

#include "core/store/memory_store.h"

namespace jh {

class ScratchStore final : public Store {
 public:
  /// `below` must outlive the scratch store and is only read.
  explicit ScratchStore(Store& below) : ScratchStore(below, below.size()) {}
  /// The same, made longer: what lies past the end of the store below reads as zeros.
  ScratchStore(Store& below, std::uint64_t size)
      : below_(below), shown_(below.size()), overlay_(size, below.name()) {}

  std::uint64_t size() const override { return overlay_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  /// Of what was written here: in this store, which is no file.
  Location locate(std::uint64_t offset, std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override {}
  /// In memory too: what is cut off does not come back.
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return below_.name(); }

  /// Whether anything in the range was written.
  bool is_changed(std::uint64_t offset, std::uint64_t length);
  /// Bytes of the pages that were written.
  std::uint64_t changed() const { return overlay_.taken(); }

 private:
  void read_below(std::uint64_t offset, ByteSpan out);

  Store& below_;
  std::uint64_t shown_;  // bytes of it that are still to be seen
  MemoryStore overlay_;  // whole pages; a hole shows what lies below
};

}  // namespace jh

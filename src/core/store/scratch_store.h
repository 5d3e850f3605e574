// A store whose changes stay in memory: to see what a filesystem looks like once its journal is
// replayed, without touching the image.
#pragma once

#include <memory>

#include "core/store/memory_store.h"

namespace jh {

class ScratchStore final : public Store {
 public:
  /// `below` must outlive the scratch store and is only read.
  explicit ScratchStore(Store& below) : below_(below), overlay_(below.size(), below.name()) {}

  std::uint64_t size() const override { return below_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  Run map(std::uint64_t offset, std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override {}
  void resize(std::uint64_t) override { ensure(false, "a scratch store is not resized"); }
  std::string name() const override { return below_.name(); }

  /// Whether anything in the range was written.
  bool is_changed(std::uint64_t offset, std::uint64_t length);

 private:
  Store& below_;
  MemoryStore overlay_;  // whole pages; a hole shows what lies below
};

}  // namespace jh

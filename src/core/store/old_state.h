// The image under a stage as it was before the change, whatever has been written directly since.
#pragma once

#include "core/store/stage.h"

namespace jh {

/// Read-only; the stage must outlive it.
class OldState final : public Store {
 public:
  explicit OldState(Stage& stage) : stage_(stage) {}
  std::uint64_t size() const override { return stage_.old_size(); }
  void read(std::uint64_t offset, ByteSpan out) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  std::string name() const override { return stage_.name(); }

  [[noreturn]] void write(std::uint64_t, ConstByteSpan) override { read_only(); }
  [[noreturn]] void discard(std::uint64_t, std::uint64_t) override { read_only(); }
  [[noreturn]] void resize(std::uint64_t) override { read_only(); }
  void flush() override {}

 private:
  [[noreturn]] void read_only() const;

  Stage& stage_;
};

}  // namespace jh

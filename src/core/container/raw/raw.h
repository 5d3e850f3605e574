// A raw image: the file's bytes are the disk's bytes. Also block devices of the host.
#pragma once

#include "core/container/container.h"
#include "core/store/views.h"

namespace jh {

class RawContainer final : public Container {
 public:
  static constexpr std::uint64_t sector = 512;

  explicit RawContainer(Store& file);
  ContainerFacts facts() override;
  Extent extent_at(std::uint64_t offset, std::uint64_t length) override {
    return {Extent::Kind::data, length, &file_, offset};
  }
  Store& disk() override { return trimmed_ ? static_cast<Store&>(*trimmed_) : file_; }
  void check_growth(Bytes new_size) override;
  void grow(Bytes new_size) override;
  void check_shrink(Bytes new_size) override;
  void shrink(Bytes new_size) override;
  Bytes size_unit() override { return Bytes(sector); }
  void audit(Findings&) override {}  // there is nothing in the file but the disk

 private:
  Store& file_;
  std::unique_ptr<WindowStore> trimmed_;  // when the file does not end on a sector
};

}  // namespace jh

// A disk without what is not used: that reads as zeros.
#pragma once

#include "core/container/container.h"
#include "core/guest/unused.h"

namespace jh {

/// Read-only; both must outlive it.
class UsedOnly final : public ImageReader {
 public:
  UsedOnly(ImageReader& whole, const Unused& unused)
      : whole_(whole), unused_(unused), disk_(*this) {}
  ContainerFacts facts() override { return whole_.facts(); }
  Store& disk() override { return disk_; }
  Extent extent_at(std::uint64_t offset, std::uint64_t length) override {
    const auto [range, reach] = unused_.stretch(offset, length);
    if (range != nullptr) return {Extent::Kind::zero, reach, nullptr, 0};
    return whole_.extent_at(offset, reach);
  }
  void audit(Findings& findings) override { whole_.audit(findings); }

 private:
  class View final : public Store {
   public:
    explicit View(UsedOnly& owner) : owner_(owner) {}
    std::uint64_t size() const override { return owner_.whole_.disk().size(); }
    void read(std::uint64_t offset, ByteSpan out) override {
      check_range(offset, out.size());
      owner_.whole_.disk().read(offset, out);
      for (std::uint64_t at = offset; at < offset + out.size();) {
        const auto [range, length] = owner_.unused_.stretch(at, offset + out.size() - at);
        if (range != nullptr) std::memset(out.data() + (at - offset), 0, length);
        at += length;
      }
    }
    Range map(std::uint64_t offset, std::uint64_t length) override {
      check_range(offset, length);
      if (length == 0) return {offset, 0, true};
      const auto [range, reach] = owner_.unused_.stretch(offset, length);
      if (range != nullptr) return {offset, reach, true};
      return owner_.whole_.disk().map(offset, reach);
    }
    Location locate(std::uint64_t offset, std::uint64_t length) override {
      const auto [range, reach] = owner_.unused_.stretch(offset, length);
      if (range != nullptr) return {nullptr, 0, reach};
      return owner_.whole_.disk().locate(offset, reach);
    }
    void write(std::uint64_t, ConstByteSpan) override { ensure(false, "this disk is only read"); }
    void discard(std::uint64_t, std::uint64_t) override { ensure(false, "this disk is only read"); }
    void flush() override {}
    void resize(std::uint64_t) override { ensure(false, "this disk is only read"); }
    std::string name() const override { return owner_.whole_.disk().name(); }

   private:
    UsedOnly& owner_;
  };

  ImageReader& whole_;
  const Unused& unused_;
  View disk_;
};

}  // namespace jh

// Views: a window on one store, and a join of several pieces into one.
#pragma once

#include <memory>

#include "core/store/store.h"

namespace jh {

/// `length` bytes of `below` from `start` on: a partition, seen as a disk of its own.
/// The store below must outlive the window.
class WindowStore final : public Store {
 public:
  WindowStore(Store& below, std::uint64_t start, std::uint64_t length, std::string name);
  /// Keeps the store below.
  WindowStore(std::unique_ptr<Store> below, std::uint64_t start, std::uint64_t length,
              std::string name)
      : WindowStore(*below, start, length, std::move(name)) {
    owned_ = std::move(below);
  }

  std::uint64_t size() const override { return length_; }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  void write_unreferenced(std::uint64_t offset, ConstByteSpan data) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  Location locate(std::uint64_t offset, std::uint64_t length) override;
  std::uint64_t share_unreferenced(std::uint64_t offset, const Location& source) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override { below_.flush(); }
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return name_; }

 private:
  std::unique_ptr<Store> owned_;
  Store& below_;
  std::uint64_t start_;
  std::uint64_t length_;
  std::string name_;
};

/// A store put together from parts of others; who derives from it says which part is where.
class ExtentStore : public Store {
 public:
  std::uint64_t size() const override { return size_; }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  void write_unreferenced(std::uint64_t offset, ConstByteSpan data) override;
  Location locate(std::uint64_t offset, std::uint64_t length) override;
  std::uint64_t share_unreferenced(std::uint64_t offset, const Location& source) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return name_; }

 protected:
  /// `length` bytes of `below`, from `start` on.
  struct Extent {
    Store* below = nullptr;
    std::uint64_t start = 0;
    std::uint64_t length = 0;
  };
  explicit ExtentStore(std::string name) : name_(std::move(name)) {}
  /// What is at `offset`, and behind it as far as it lies in one run below.
  virtual Extent extent_at(std::uint64_t offset) const = 0;
  /// Calls visit(store, offset there, offset in the request, length) for each part of the range.
  template <class Visit>
  void for_each_extent(std::uint64_t offset, std::uint64_t length, Visit visit) const;

  std::uint64_t size_ = 0;

 private:
  std::string name_;
};

/// Pieces of one or several stores, put end to end: a volume in several segments.
class JoinStore final : public ExtentStore {
 public:
  using ExtentStore::Extent;
  JoinStore(std::vector<Extent> pieces, std::string name);
  /// Whole stores, which the join keeps.
  JoinStore(std::vector<std::unique_ptr<Store>> parts, std::string name);

  Range map(std::uint64_t offset, std::uint64_t length) override;
  void flush() override;

 private:
  Extent extent_at(std::uint64_t offset) const override;

  std::vector<std::unique_ptr<Store>> parts_;
  std::vector<Extent> extents_;
  std::vector<std::uint64_t> starts_;  // where each piece begins in the join
};

/// Stores of one size, taken in turn: `chunk` bytes of the first, of the second, and so on.
class StripeStore final : public ExtentStore {
 public:
  StripeStore(std::vector<std::unique_ptr<Store>> stripes, std::uint64_t chunk, std::string name);

  Range map(std::uint64_t offset, std::uint64_t length) override;
  void flush() override;

 private:
  Extent extent_at(std::uint64_t offset) const override;

  std::vector<std::unique_ptr<Store>> stripes_;
  std::uint64_t chunk_;
};

}  // namespace jh

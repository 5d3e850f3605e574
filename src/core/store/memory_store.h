// A store in memory: sparse, and cheap to copy (pages are shared until one of the copies writes).
#pragma once

#include <map>
#include <memory>

#include "core/store/store.h"

namespace jh {

class MemoryStore final : public Store {
 public:
  static constexpr std::uint64_t page_size = 4096;
  using Page = std::array<std::uint8_t, page_size>;
  using Pages = std::map<std::uint64_t, std::shared_ptr<const Page>>;  // page number → content

  explicit MemoryStore(std::uint64_t size, std::string name = "memory")
      : size_(size), name_(std::move(name)) {}
  MemoryStore(const MemoryStore& other, std::string name)
      : size_(other.size_), name_(std::move(name)), pages_(other.pages_) {}
  MemoryStore(MemoryStore&& other) noexcept
      : size_(other.size_), name_(std::move(other.name_)), pages_(std::move(other.pages_)) {}

  std::uint64_t size() const override { return size_; }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  /// Of another MemoryStore, in whole pages.
  std::uint64_t share(std::uint64_t offset, Store& from, std::uint64_t source,
                      std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override {}
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return name_; }

  /// What it keeps, in bytes: whole pages.
  std::uint64_t taken() const { return pages_.size() * page_size; }
  void assign(const MemoryStore& other);
  /// Equal size and equal content, byte for byte.
  bool same_content(const MemoryStore& other) const;

 private:
  std::uint64_t size_;
  std::string name_;
  Pages pages_;
};

}  // namespace jh

// First page guard: the first page of an image. While a decided change is written to an image its
// front is closed: it holds a text in place of what a guest starts from, or what a form is known
// by. So nobody can use an image that is half old and half new, and what `recover` finds behind a
// closed front was written by nobody since.
#pragma once

#include <memory>
#include <vector>

#include "core/store/ledger.h"

namespace jh {

/// Whether an image's first page is closed, by whatever change.
bool has_closed_first_page(Store& image);

/// An image as it would be if its front were open. What is written to the first page is remembered,
/// and gets there when it is opened.
class FirstPageGuard final : public Store {
 public:
  /// `page` is the first page as it was before it was closed. `image` must outlive it.
  FirstPageGuard(Store& image, const Uuid& change, Buffer page);

  /// Sectors of the first page: closed by this change, as they were before, or something else.
  struct Sectors {
    std::size_t closed = 0;
    std::size_t as_before = 0;
    std::size_t other = 0;
  };
  Sectors sectors();
  /// Throws refused where a closed sector was written to: it is neither closed any more nor what
  /// somebody uses.
  void check_text();
  /// Durable when it returns.
  void close();
  /// Gives every closed sector what it holds now; others are left alone. Durable when it returns.
  void open();
  /// From here on writes behind the first page go nowhere: to find out once more what the first
  /// page holds.
  void remember_only() { remember_only_ = true; }

  std::uint64_t size() const override { return image_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  Range map(std::uint64_t offset, std::uint64_t length) override;
  /// Behind the first page, in the image itself.
  Location locate(std::uint64_t offset, std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override;
  void reserve(std::uint64_t offset, std::uint64_t length) override {
    image_.reserve(offset, length);
  }
  void resize(std::uint64_t new_size) override;
  bool has_fixed_size() const override { return image_.has_fixed_size(); }
  std::string name() const override { return image_.name(); }

 private:
  bool is_closed(std::uint64_t at, ConstByteSpan sector) const;

  Store& image_;
  Buffer before_;
  Buffer page_;    // what the first page holds
  Buffer closed_;  // what stands there while it is closed
  bool remember_only_ = false;
};

/// The first pages of all images of a change.
class FirstPageGuards {
 public:
  /// Reads from the ledger which images have one to close, and what was in it. `images` are those
  /// of the ledger, and must outlive this.
  FirstPageGuards(Ledger& ledger, const std::vector<Store*>& images);

  /// The images, through their first pages.
  const std::vector<Store*>& stores() const { return stores_; }
  /// Before the mark that lets them be closed: what an image's first page holds goes to the ledger.
  /// `new_size`: of the image afterwards.
  static void note(Ledger& ledger, std::uint32_t image, Store& store, std::uint64_t new_size);
  bool all_closed();
  /// Where not all are closed: throws refused when a sector is closed and another is neither that
  /// nor as it was. It cannot be told then whether the change was begun.
  void check_untouched();
  void check_texts();
  void close_all();
  void open_all();
  void remember_only();

 private:
  std::vector<std::unique_ptr<FirstPageGuard>> fronts_;
  std::vector<Store*> stores_;
};

}  // namespace jh

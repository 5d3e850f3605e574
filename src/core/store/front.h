// Front: the first page of an image. While a decided change is written to an image its front is
// closed: it holds a text in place of what a guest starts from, or what a form is known by. So
// nobody can use an image that is half old and half new, and what `recover` finds behind a closed
// front was written by nobody since.
#pragma once

#include <memory>
#include <vector>

#include "core/store/ledger.h"

namespace jh {

/// Whether an image's front is closed, by whatever change.
bool has_closed_front(Store& image);

/// An image as it would be if its front were open. What is written to the front is remembered, and
/// gets there when it is opened.
class FrontStore final : public Store {
 public:
  /// `page` is the front as it was before it was closed. `image` must outlive it.
  FrontStore(Store& image, const Uuid& change, Buffer page);

  /// Sectors of the front: closed by this change, as they were before, or something else.
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
  /// From here on writes behind the front go nowhere: to find out once more what the front holds.
  void remember_only() { remember_only_ = true; }

  std::uint64_t size() const override { return image_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  Run map(std::uint64_t offset, std::uint64_t length) override;
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
  Buffer page_;    // what the front holds
  Buffer closed_;  // what stands there while it is closed
  bool remember_only_ = false;
};

/// The fronts of all images of a change.
class Fronts {
 public:
  /// Reads from the ledger which images have one to close, and what was in it. `images` are those
  /// of the ledger, and must outlive this.
  Fronts(Ledger& ledger, const std::vector<Store*>& images);

  /// The images, through their fronts.
  const std::vector<Store*>& stores() const { return stores_; }
  /// Before the mark that lets them be closed: what an image's front holds goes to the ledger.
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
  std::vector<std::unique_ptr<FrontStore>> fronts_;
  std::vector<Store*> stores_;
};

}  // namespace jh

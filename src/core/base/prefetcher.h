// Work that runs ahead in a thread of its own: what one side makes, the other uses in order.
#pragma once

#include <condition_variable>
#include <exception>
#include <functional>
#include <mutex>
#include <thread>
#include <vector>

namespace jh {

/// A ring of `depth` items. The maker fills them in a thread of its own and may be that many ahead
/// of the user; items are used again, so that their memory is. What the maker throws comes out of
/// next(). The user may stop at any time.
template <class Item>
class Prefetcher {
 public:
  /// `make` is called once, in the thread; it calls add() for every item, and returns at the end.
  /// What it touches must outlive this, and not be used by anybody else meanwhile.
  using Fill = std::function<void(Item&)>;
  using Add = std::function<void(const Fill&)>;

  Prefetcher(std::size_t depth, std::function<void(const Add&)> make) : items_(depth) {
    maker_ = std::thread([this, make = std::move(make)] {
      std::exception_ptr trouble;
      try {
        make([this](const Fill& fill) { add(fill); });
      } catch (const Stopped&) {
      } catch (...) {
        trouble = std::current_exception();
      }
      const std::lock_guard lock(mutex_);
      trouble_ = trouble;
      at_end_ = true;
      changed_.notify_all();
    });
  }
  ~Prefetcher() {
    {
      const std::lock_guard lock(mutex_);
      stopped_ = true;
      changed_.notify_all();
    }
    maker_.join();
  }
  Prefetcher(const Prefetcher&) = delete;
  Prefetcher& operator=(const Prefetcher&) = delete;

  /// The next item, until it is called again; nullptr when there are no more.
  const Item* next() {
    std::unique_lock lock(mutex_);
    if (in_use_) ++used_;
    in_use_ = false;
    changed_.notify_all();
    changed_.wait(lock, [&] { return made_ > used_ || at_end_; });
    if (made_ == used_) {
      if (trouble_) std::rethrow_exception(trouble_);
      return nullptr;
    }
    in_use_ = true;
    return &items_[used_ % items_.size()];
  }

 private:
  struct Stopped {};

  void add(const Fill& fill) {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return made_ - used_ < items_.size() || stopped_; });
    if (stopped_) throw Stopped();
    lock.unlock();
    fill(items_[made_ % items_.size()]);
    lock.lock();
    ++made_;
    changed_.notify_all();
  }

  std::vector<Item> items_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::size_t made_ = 0;
  std::size_t used_ = 0;
  bool in_use_ = false;
  bool at_end_ = false;
  bool stopped_ = false;
  std::exception_ptr trouble_;
  std::thread maker_;
};

}  // namespace jh

// A store whose power can fail, or whose disk: for the tests that have it fail at every operation.
#pragma once

#include <exception>
#include <functional>
#include <memory>
#include <random>

#include "core/store/memory_store.h"

namespace jh {

/// What happens to writes that were not flushed when the power goes; `each`: to every file what
/// chance has for it.
enum class Unflushed { kept, lost, torn, each };

/// Not an Error: no code under test may mistake it for an ordinary failure.
struct PowerCut : std::exception {
  const char* what() const noexcept override { return "the power was cut"; }
};

/// Counts the operations of all stores of one host, and cuts the power at one of them.
class PowerSupply {
 public:
  /// Cuts at the n-th operation from now on; 0: never.
  void cut_at(std::uint64_t n) {
    count_ = 0;
    cut_at_ = n;
  }
  /// The n-th operation from now on ends with an Error (io), and with `lasting` all behind it too.
  void fail_at(std::uint64_t n, bool lasting) {
    cut_at(0);
    fail_at_ = n;
    lasting_ = lasting;
  }
  std::uint64_t count() const { return count_; }
  bool is_off() const { return off_; }
  /// Asked before so many more bytes are taken of the host's room: whether it has them.
  void ask_for_room(std::function<bool(std::uint64_t)> has_room) {
    has_room_ = std::move(has_room);
  }
  void take_room(std::uint64_t bytes) const {
    if (bytes != 0 && has_room_ && !has_room_(bytes))
      io_failed("the test's host is full", "in memory");
  }
  void share_at_most(std::uint64_t times) { shares_left_ = times; }
  bool is_willing() const { return shares_left_ == UINT64_MAX; }
  /// Whether the host shares once more.
  bool may_share() {
    if (shares_left_ == 0) return false;
    shares_left_ -= is_willing() ? 0 : 1;
    return true;
  }
  void switch_on() {
    off_ = false;
    cut_at(0);
    fail_at_ = 0;
  }
  /// True when this operation is the one at which the power goes.
  bool tick() {
    if (off_) throw PowerCut();
    ++count_;
    if (fail_at_ != 0 && (count_ == fail_at_ || (lasting_ && count_ > fail_at_)))
      io_failed("the test's disk failed", "in memory");
    if (count_ != cut_at_) return false;
    off_ = true;
    return true;
  }

 private:
  std::uint64_t count_ = 0;
  std::uint64_t cut_at_ = 0;
  std::uint64_t fail_at_ = 0;
  std::uint64_t shares_left_ = UINT64_MAX;
  bool lasting_ = false;
  bool off_ = false;
  std::function<bool(std::uint64_t)> has_room_;
};

/// One file: what is surely on the disk, what programs see, and what lies between the two.
struct FaultFile {
  explicit FaultFile(std::uint64_t size) : durable(size), view(size) {}
  explicit FaultFile(const MemoryStore& content)
      : durable(content, "durable"), view(content, "view") {}
  struct Operation {
    enum class Kind { write, resize, discard } kind{};
    std::uint64_t offset = 0;  // resize: the new size
    std::uint64_t length = 0;
    Buffer data;
  };
  /// What the file takes of the host's room, in bytes.
  std::uint64_t taken() const {
    return view.taken() + (promised_end > view.size() ? promised_end - view.size() : 0);
  }
  /// Decides what survives. `random` decides what a torn write leaves.
  void power_lost(Unflushed mode, std::mt19937& random);

  MemoryStore durable;
  MemoryStore view;
  std::vector<Operation> pending;
  std::uint64_t promised_end = 0;  // room behind the end that was reserved
  bool whole_sectors = false;  // a torn write leaves each of them as a whole: what disks promise
};

class FaultStore final : public Store {
 public:
  FaultStore(std::shared_ptr<FaultFile> file, PowerSupply& power, std::string name)
      : file_(std::move(file)), power_(power), name_(std::move(name)) {}
  std::uint64_t size() const override { return file_->view.size(); }
  void read(std::uint64_t offset, ByteSpan out) override;
  void write(std::uint64_t offset, ConstByteSpan data) override;
  Range map(std::uint64_t offset, std::uint64_t length) override {
    return file_->view.map(offset, length);
  }
  std::uint64_t share(std::uint64_t offset, Store& from, std::uint64_t source,
                      std::uint64_t length) override;
  void discard(std::uint64_t offset, std::uint64_t length) override;
  void flush() override;
  void reserve(std::uint64_t offset, std::uint64_t length) override;
  void resize(std::uint64_t new_size) override;
  std::string name() const override { return name_; }

 private:
  void change(FaultFile::Operation operation);
  std::uint64_t missing(std::uint64_t offset, std::uint64_t length);
  std::shared_ptr<FaultFile> file_;
  PowerSupply& power_;
  std::string name_;
};

}  // namespace jh

// A host in memory whose power can be cut, and switched on again.
#pragma once

#include <map>

#include "core/change/recover_images.h"
#include "core/store/host.h"
#include "support/fault_store.h"

namespace jh::test {

/// What files of these tests are made of.
inline Buffer filled(std::size_t size, std::uint8_t value) { return Buffer(size, value); }

class FaultHost final : public Host {
 public:
  std::unique_ptr<Store> open(const std::string& path, Access access) override;
  std::unique_ptr<Store> open_plain(const std::string& path, Access access) override;
  std::unique_ptr<Store> create(const std::string& path) override;
  bool exists(const std::string& path) override { return files_.contains(path); }
  /// The next ledger to be opened: what another does in between, before or after it is opened. As
  /// of the system's files, its length is known from then on.
  void meanwhile(std::function<void()> act, bool before_opening) {
    (before_opening ? before_opening_ : after_opening_) = std::move(act);
  }
  void remove(const std::string& path) override;
  void rename(const std::string& from, const std::string& to) override;
  std::uint64_t free_space(const std::string&) override { return told_; }
  FileIdentity identity(const std::string& path) override;
  std::string ledger_path(const std::string& image) override { return image + ".juneheath"; }

  void put(const std::string& path, const MemoryStore& content);
  /// Somebody else's content in the same file.
  void overwrite(const std::string& path, const MemoryStore& content);
  const MemoryStore& content(const std::string& path) const { return files_.at(path)->view; }
  std::vector<std::string> names() const;

  /// From now on the n-th operation is the last; names change as `mode` says.
  void cut_at(std::uint64_t n, Unflushed mode);
  /// The disk fails at the n-th operation, and with `lasting` from there on, until repaired.
  void fail_at(std::uint64_t n, bool lasting) { power_.fail_at(n, lasting); }
  void mend() { power_.switch_on(); }
  std::uint64_t operations() const { return power_.count(); }
  /// From now on the host has so much room left and no more; nothing: as much as anybody wants.
  /// Who asks is told `told`: others take it meanwhile.
  void leave_room(std::optional<std::uint64_t> bytes, std::uint64_t told = 1ULL << 50);
  std::uint64_t room_left() const;
  /// Blocks of the images are shared with other files: overwriting them takes room.
  void share_blocks() { shares_ = true; }
  bool overwriting_needs_room(const std::string& /*path*/) override { return shares_; }
  bool can_share(const std::string& /*from*/, const std::string& /*to*/) override { return true; }
  /// From now on the host lets files share blocks so many times, and then no more.
  void share_at_most(std::uint64_t times) { power_.share_at_most(times); }
  bool is_willing() const { return power_.is_willing(); }
  /// The least that was left at any time since.
  std::uint64_t least_room() const { return least_; }
  /// What survives is decided, and the power comes back.
  void restart(std::mt19937& random);

 private:
  // True when the operation still happens.
  bool name_operation();
  std::uint64_t taken() const;
  std::map<std::string, std::shared_ptr<FaultFile>> files_;
  std::function<void()> before_opening_;
  std::function<void()> after_opening_;
  PowerSupply power_;
  std::optional<std::uint64_t> room_;  // for all files together
  std::uint64_t told_ = 1ULL << 50;
  bool shares_ = false;
  std::uint64_t least_ = UINT64_MAX;
  Unflushed mode_ = Unflushed::kept;
};

/// recover and undo as a user runs them who names this image first and then all the others there.
RecoverResult recover(FaultHost& host, const std::string& image);
UndoFacts undo(FaultHost& host, const std::string& image);
UndoFacts check_undo(FaultHost& host, const std::string& image);

}  // namespace jh::test

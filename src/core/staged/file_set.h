// FileSet: the files that one change may write, each with its stage; and the disks opened on them.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/plan/plan.h"
#include "core/store/old_state.h"
#include "core/store/transaction.h"

namespace jh {

class FileSet {
 public:
  /// Opens every file of the guest's disks for writing, makes the ones the plan adds (empty), and
  /// begins a transaction over all of them. Nothing else is written.
  FileSet(Host& host, const Guest& before, const Plan& plan);
  /// The same for the files of one disk (number 0 here) that keeps its size.
  FileSet(Host& host, const Disk& disk);
  FileSet(const FileSet&) = delete;
  FileSet& operator=(const FileSet&) = delete;

  Transaction& transaction() { return *transaction_; }
  /// Of a disk: see Transaction::note_given.
  void note_assigned(std::size_t disk, std::uint64_t offset, std::uint64_t length, bool zero,
                     std::uint32_t crc) {
    transaction_->note_assigned(main_[disk], offset, length, zero, crc);
  }
  /// Of a disk's image file.
  Stage& stage(std::size_t disk) { return transaction_->stage(main_[disk]); }
  /// All of them, parts included.
  std::vector<Stage*> stages();
  /// Where the containers opened on the stages find their other files.
  FileResolver& resolver() { return staged_; }
  /// The disk's image file as it was before the change, and where its other files are.
  Store& old_state(std::size_t disk) { return *old_.at(main_[disk]); }
  FileResolver& old_resolver() { return old_resolver_; }

 private:
  void begin(Host& host, const std::vector<std::string>& paths,
             const std::vector<Stage::Tail>& tails, std::size_t created);
  // A file that only says which files hold the disk.
  void note_descriptor(const Disk& disk, std::size_t index);

  HostFileResolver others_;
  ListedFileResolver staged_;
  ListedFileResolver old_resolver_;
  std::vector<std::unique_ptr<OldState>> old_;
  std::vector<std::unique_ptr<Store>> files_;
  std::vector<std::size_t> main_;  // by disk: which stage
  std::unique_ptr<Transaction> transaction_;
};

}  // namespace jh

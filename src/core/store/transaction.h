// Transaction: one change of one or several images, from the first staged byte to the seal. What
// can be done with its ledger afterwards is in recovery.h.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/store/stage.h"

namespace jh {

class Transaction {
 public:
  /// Opens the ledger. Throws refused when an unfinished change is in the way, or an image has
  /// further names (hard links) under which nobody would find the ledger.
  /// `images` must outlive the transaction.
  /// `created`: how many of them, at the end, are empty files made for this change; dropping or
  /// undoing it removes them.
  Transaction(Host& host, const std::vector<std::string>& paths, const std::vector<Store*>& images,
              std::size_t created = 0);
  /// Reclaimable the change unless it was sealed. A failure here leaves the ledger for `recover`.
  ~Transaction();
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;

  Stage& stage(std::size_t index) { return *stages_.at(index); }
  /// Whether what moves may share its blocks with where it was; before the first write.
  void set_sharing(Sharing sharing) { ledger_->set_sharing(sharing); }
  /// Remembers what a range of the disk in this image holds, which the change hands out: an undo
  /// will be refused when somebody has begun to use it.
  void note_assigned(std::size_t index, std::uint64_t offset, std::uint64_t length, bool zero,
                     std::uint32_t crc);
  /// Makes the change real: all of it or nothing. Before the commit mark any failure leaves the old
  /// state; after it an Error (io) says to run recover. Without `keep_undo` the ledger is removed.
  void seal(Progress& progress, bool keep_undo);
  /// Bytes that were written to the ledger; what it shares with the images is none of it.
  std::uint64_t ledger_bytes() const { return ledger_bytes_; }

 private:
  void keep_let_go(Stage& stage, bool keep_undo, Progress& progress);
  std::uint64_t keep_cut(Stage& stage, std::uint64_t offset, std::uint64_t length, bool keep_undo);
  void write_records(Progress& progress, bool keep_undo);

  Host& host_;
  std::unique_ptr<Ledger> ledger_;
  std::vector<std::unique_ptr<Stage>> stages_;
  bool over_ = false;
  std::uint64_t ledger_bytes_ = 0;
};

/// An Error that leaves a change for `recover` of these images.
Error unfinished(const std::string& state, const Error& error,
                 const std::vector<std::string>& images);

/// Whether a change of this image waits for `recover`, or that cannot be told.
bool has_unfinished_change(Host& host, const std::string& image_path);
/// What an Error that ended a transaction of this image has left behind, asked of the disk once the
/// transaction is gone; the Error that says so, if it does not yet.
std::optional<Error> outcome_told(Host& host, const std::string& image_path, const Error& error);

/// Runs `work`, which makes a Transaction and lets go of it. An Error that leaves it says whether
/// anything was changed, and what to run.
template <class Work>
auto telling_outcome(Host& host, const std::string& image_path, Work&& work) -> decltype(work()) {
  // An earlier change in the way is refused, and is not what this one leaves.
  if (has_unfinished_change(host, image_path)) return work();
  try {
    return work();
  } catch (const Error& error) {
    if (const auto told = outcome_told(host, image_path, error)) throw Error(*told);
    throw;
  }
}

}  // namespace jh

// Ledger: the file that makes a change of one or several images atomic and undoable.
//
// Life of a ledger (its file name in brackets):
//   opened    [IMAGE.juneheath.open]  direct writes may happen; their old bytes are kept here first
//   committed [.open, then IMAGE.juneheath]  the new state counts; it is being applied
//   done      [IMAGE.juneheath]       applied; kept so that the change can be undone
//   undoing   [IMAGE.juneheath]       the old state counts again; it is being put back
// A ledger of several images lies beside the first; the others get a short file that points to it.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/store/host.h"
#include "core/store/ledger_format.h"

namespace jh {

class Ledger {
 public:
  enum class State { opened, committed, done, undoing };
  struct Image {
    std::string path;  // as it can be opened; in the file, names beside the ledger are short
    std::uint64_t old_size = 0;
    FileIdentity identity;
    std::uint32_t fingerprint = 0;
    bool created = false;  // by the change itself: the old state has no such file
  };
  struct Entry {
    ledger::RecordKind kind{};
    std::uint32_t image = 0;
    bool zero = false;
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    Buffer payload;  // empty when `zero`
  };

  /// Starts a change of these images. Throws refused when one of them already has an unfinished
  /// one.
  /// `created`: how many of them, at the end of the list, are empty files made for this change.
  static std::unique_ptr<Ledger> create(Host& host, const std::vector<std::string>& image_paths,
                                        const std::vector<Store*>& images, std::size_t created = 0);
  /// The ledger that concerns this image, whichever image it lies beside; null when there is none.
  /// A file that was never completely begun counts as none and is removed when `tidy` is set.
  static std::unique_ptr<Ledger> open(Host& host, const std::string& image_path, bool tidy);

  State state() const { return state_; }
  const std::vector<Image>& images() const { return images_; }
  const std::string& path() const { return path_; }
  std::uint64_t created() const { return created_; }
  /// Bytes of the ledger file so far.
  std::uint64_t length() const { return end_ + waiting_.size(); }

  /// Appends a record; data longer than a record's limit is split. Data that is all zeros costs no
  /// payload. Returns where in the file the data of the last record begins; 0: it has none.
  std::uint64_t append(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                       ConstByteSpan data);
  void append_zero(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                   std::uint64_t length);
  /// What was written directly: `length` bytes with this CRC-32C.
  void append_digest(std::uint32_t image, std::uint64_t offset, std::uint64_t length,
                     std::uint32_t crc);
  void append_moved(std::uint32_t image, std::uint64_t offset, std::uint64_t length,
                    const ledger::MovedTo& place);
  void append_new_size(std::uint32_t image, std::uint64_t size);
  /// Data that append() put there.
  void read_back(std::uint64_t at, ByteSpan out);
  void flush();

  /// Sets the commit mark and gives the file its lasting name. All before it is flushed first.
  void commit();
  void mark_done();
  void mark_undoing();
  /// In an undo: what moved is back at its old place, and what it left may be overwritten.
  void mark_fetched();
  bool is_fetched() const { return fetched_; }
  /// Takes the lasting names if a crash came between the mark and the renaming.
  void settle_names();
  /// Removes the ledger and what points to it.
  void remove();

  /// Calls visit for each record in order. In an unfinished ledger the first incomplete record ends
  /// the list; in a committed one it is damage.
  void for_each(const std::function<void(const Entry&)>& visit);

 private:
  explicit Ledger(Host& host) : host_(host) {}
  bool names(Host& host, const std::string& own_ledger_path) const;
  void write_header();
  bool read_header();
  void read_marks();
  bool mark_is_set(ledger::MarkKind kind);
  void set_mark(ledger::MarkKind kind);
  void write_record(ledger::Record record, ConstByteSpan payload);
  void bring_out();
  std::optional<Entry> read_record(std::uint64_t& at, std::uint64_t limit);
  ConstByteSpan window(std::uint64_t at, std::uint64_t length, std::uint64_t limit);

  Host& host_;
  std::unique_ptr<Store> file_;
  std::string path_;                   // lasting name
  bool lasting_ = false;               // whether the file has it yet
  std::vector<std::string> pointers_;  // lasting names of the pointer files
  State state_ = State::opened;
  bool fetched_ = false;
  Uuid id_{};
  std::uint64_t created_ = 0;
  std::vector<Image> images_;
  std::uint64_t records_start_ = 0;
  std::uint64_t end_ = 0;
  Buffer window_;  // the part of the file that reading is at
  std::uint64_t window_start_ = 0;
  Buffer waiting_;  // records not written yet, behind end_: many small ones make one write
};

/// Name of a ledger that is not committed yet.
std::string open_name(const std::string& ledger_path);

}  // namespace jh

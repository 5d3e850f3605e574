// Ledger: the file that makes a change of one or several images atomic and undoable.
//
// Life of a ledger (its file name in brackets):
//   opened     [IMAGE.juneheath.open]  direct writes may happen, to what the old state does not use
//   committed  [.open, then IMAGE.juneheath]  the records are complete; once all first pages are
//   closed
//                                     the new state counts, and is being applied
//   applied    [IMAGE.juneheath]      it is there; the first pages are being opened
//   done       [IMAGE.juneheath]      kept so that the change can be undone
//   undoing    [IMAGE.juneheath]      once all first pages are closed the old state is being put
//   back restored   [IMAGE.juneheath]      it is there; the first pages are being opened
// A ledger of several images lies beside the first; the others get a short file that points to it.
//
// What a ledger says is input like any other: see recovery.h for what may be done with it.
#pragma once

#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "core/store/host.h"
#include "core/store/ledger_format.h"
#include "core/store/transfer.h"

namespace jh {

class Ledger {
 public:
  enum class State { opened, committed, applied, done, undoing, restored };
  struct Image {
    std::string path;  // as it can be opened; in the file, names beside the ledger are short
    std::uint64_t old_size = 0;
    FileIdentity identity;
    bool created = false;     // by the change itself: the old state has no such file
    std::string device_name;  // by which a block device is known wherever it is attached
  };
  struct Entry {
    ledger::RecordKind kind{};
    std::uint32_t image = 0;
    bool zero = false;
    bool shared = false;  // the bytes are at `at`, and not read; no payload
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    std::uint64_t at = 0;   // where in the ledger the payload is
    ConstByteSpan payload;  // empty when `zero`; of `bytes`
    std::shared_ptr<const Buffer> bytes{};
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
  /// Whether what an undo needs was kept; known from the commit on.
  bool has_undo() const { return has_undo_; }
  const std::vector<Image>& images() const { return images_; }
  std::vector<std::string> paths() const;
  const std::string& path() const { return path_; }
  std::uint64_t created() const { return created_; }
  const Uuid& id() const { return id_; }
  /// Bytes of the ledger file so far.
  std::uint64_t length() const { return end_ + waiting_.size(); }

  /// Appends a record; data longer than a record's limit is split. Data that is all zeros costs no
  /// payload. Returns where in the file the data of the last record begins; 0: it has none.
  std::uint64_t append(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                       ConstByteSpan data);
  /// The same, compressed where that saves something: of what is only read record by record.
  void append_compressed(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                         ConstByteSpan data);
  void append_zero(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                   std::uint64_t length);
  /// Bytes that the ledger has by sharing blocks with an image.
  struct Shared {
    std::uint64_t length = 0;
    std::uint64_t at = 0;
  };
  /// A record whose bytes are those of `file` from `source` on, without copying them, as far as the
  /// host can; length 0: it cannot, and nothing was appended.
  Shared append_shared(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                       Store& file, std::uint64_t source, std::uint64_t length);
  bool may_share() const { return shares_; }
  void set_sharing(Sharing sharing) { shares_ = sharing == Sharing::automatic; }
  /// Bytes of the ledger that it shares.
  std::uint64_t shared_bytes() const { return shared_bytes_; }
  /// Whether bytes that append_shared() put there are those of an image from `offset` on.
  bool has_same(std::uint64_t at, Store& image, std::uint64_t offset, std::uint64_t length);
  /// Writes them to an image, by sharing where the host can.
  void give_back(std::uint64_t at, Store& image, std::uint64_t offset, std::uint64_t length);
  /// About a range of which only the checksum is kept; zeros need none.
  void append_checksum(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                       std::uint64_t length, bool zero, std::uint32_t crc);
  /// A record about `length` bytes whose payload is not their content; at most max_payload of it.
  /// Returns where in the file the payload begins.
  std::uint64_t append_about(ledger::RecordKind kind, std::uint32_t image, std::uint64_t offset,
                             std::uint64_t length, ConstByteSpan payload, std::uint32_t flags = 0);
  /// What an image's first page holds before it is closed; goes with the mark that is set next. Its
  /// place was taken with the header.
  void put_front(std::uint32_t image, ConstByteSpan page);
  /// By image; empty: it is not closed.
  std::vector<Buffer> fronts();
  /// Data that append() put there. By any thread, as long as nothing is appended meanwhile.
  void read_back(std::uint64_t at, ByteSpan out);
  void flush();

  /// Sets the commit mark and gives the file its lasting name. All before it is flushed first.
  void commit(bool with_undo);
  void mark_applied();
  void mark_done();
  void mark_undoing();
  /// Of an undo that was not begun: the change is done, as it was.
  void clear_undoing();
  void mark_restored();
  /// In an undo: what moved is back at its old place, and what it left may be overwritten.
  void mark_fetched();
  bool is_fetched() const { return fetched_; }
  /// Takes the lasting names if a crash came between the mark and the renaming.
  void take_final_names();
  /// Removes the ledger and what points to it.
  void remove();

  /// Calls visit for each record in order; spilled bytes come with the record that speaks of them.
  /// In an unfinished ledger the first incomplete record ends the list; in a committed one it is
  /// damage.
  /// `bytes` unset: without reading what is spilled.
  void for_each(const std::function<void(const Entry&)>& visit, bool bytes = true);

 private:
  explicit Ledger(Host& host) : host_(host) {}
  static std::unique_ptr<Ledger> find(Host& host, const std::string& image_path, bool tidy);
  bool names(Host& host, const std::string& own_ledger_path) const;
  bool leads_here(const std::string& name);
  void write_header();
  bool read_header();
  void read_images(ConstByteSpan raw, std::uint32_t count);
  void read_marks();
  bool mark_is_set(ledger::MarkKind kind);
  Buffer fronts_area();
  void set_mark(ledger::MarkKind kind, std::uint32_t flags = 0);
  void write_record(ledger::Record record, ConstByteSpan payload);
  void write_back();
  std::optional<Entry> read_record(std::uint64_t& at, std::uint64_t limit, bool bytes);
  static bool decompress_payload(Entry& entry);
  static bool find_shared(Entry& entry, std::uint64_t& end, std::uint64_t limit);
  bool fetch_parked(Entry& entry, std::uint64_t before);
  std::shared_ptr<const Buffer> spilled_bytes(std::uint64_t at, std::uint64_t length,
                                              std::uint32_t crc);
  ConstByteSpan window(std::uint64_t at, std::uint64_t length, std::uint64_t limit);

  Host& host_;
  std::unique_ptr<Store> file_;
  std::string path_;                   // lasting name
  bool lasting_ = false;               // whether the file has it yet
  std::vector<std::string> pointers_;  // lasting names of the pointer files
  State state_ = State::opened;
  bool fetched_ = false;
  bool has_undo_ = true;
  Uuid id_{};
  std::uint64_t created_ = 0;
  std::vector<Image> images_;
  std::uint64_t fronts_start_ = 0;
  std::uint32_t fronts_crc_ = 0;  // by the mark that counts
  std::uint64_t records_start_ = 0;
  std::uint64_t end_ = 0;
  std::uint64_t shared_bytes_ = 0;
  bool shares_ = true;  // as long as the host has not said no
  Buffer window_;       // the part of the file that reading is at
  std::uint64_t window_start_ = 0;
  std::uint64_t window_ahead_ = ledger::block_size;  // bytes that are read at once
  std::uint64_t window_limit_ = 0;                   // the end of all records when it was read
  /// What is spilled once and spoken of many times: a table's copies.
  struct Fetched {
    std::uint64_t at = 0;
    std::uint32_t crc = 0;
    std::shared_ptr<const Buffer> bytes{};
  };
  std::deque<Fetched> fetched_bytes_;  // the latest first
  std::mutex reading_back_;
  Buffer waiting_;  // records not written yet, behind end_: many small ones make one write
};

/// Where a pointer file leads, as an absolute path; nothing: it is no pointer.
std::optional<std::string> pointer_target(Store& file, const std::string& name);
/// Name of a ledger that is not committed yet.
std::string open_name(const std::string& ledger_path);
/// Whether a name is one that ledgers and unfinished images are kept under: no image may have it.
bool is_reserved_name(const std::string& path);

}  // namespace jh

// Filesystem: what a place holds, whatever its kind. Everything here is in bytes of the place:
// blocks, groups, inodes and clusters stay in the folders behind this door. A new kind gives itself
// one FilesystemKind, and is listed in kinds.cpp.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/base/errors.h"
#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/base/sizes.h"
#include "core/layer/layer_kind.h"
#include "core/store/scratch_store.h"

namespace jh {

/// The smallest place it can be brought to, and what stands there.
struct FilesystemFloor {
  Bytes size;
  std::string reason;
};

/// The way from one size to another.
struct ResizePlan {
  Bytes from{};
  Bytes to{};
  std::string words{};               // "add 3 block groups"
  std::string preparation{};         // what prepare() does; empty: nothing has to be done before
  bool moves_content = false;        // files may lie elsewhere afterwards
  Bytes to_move{};                   // at most
  std::uint64_t bytes_to_write = 0;  // an upper bound, what moves not counted
  std::vector<std::string> notes{};
  bool changes() const { return from != to; }
};

enum class AuditScope {  // each looks at more than the one before
  growth,                // what a growth builds on, but for what it writes anew
  structure,             // all that a growth can touch
  full,
  content,  // and what files hold, where the filesystem keeps sums of it
};

/// The files of a filesystem, for comparing two states of it and for reading.
class FileTree {
 public:
  using Node = std::uint64_t;  // tells a file from others of the same tree; below node_end()

  struct Entry {
    std::string name;
    Node node = 0;
    std::uint8_t type = 0;
  };
  /// A part of a file: [offset, offset + length) of it. What is in none of them is a hole.
  struct Extent {
    enum class Kind { data, zeros } kind = Kind::data;
    std::uint64_t offset = 0;
    std::uint64_t at = 0;  // bytes of the place; of data only
    std::uint64_t length = 0;
  };
  struct File {
    bool folder = false;
    Buffer facts;                 // all that must stay the same of it, in whatever form
    Buffer attributes;            // the same of its extended attributes
    std::vector<Node> values;     // nodes that hold values of attributes
    std::vector<Extent> content;  // ascending
  };
  /// Where the comparison begins: the root folder, and files that no folder names.
  struct Root {
    std::string path;
    Node node = 0;
  };

  FileTree() = default;
  FileTree(const FileTree&) = delete;
  FileTree& operator=(const FileTree&) = delete;
  virtual ~FileTree() = default;

  virtual std::vector<Root> roots() = 0;
  /// Nodes whose content has to follow the places of others: nothing of them can be compared.
  virtual std::vector<Node> passed_over() { return {}; }
  virtual Node node_end() const = 0;
  /// Whether files may have content in common: then it is worth remembering what was compared.
  virtual bool shares_content() const { return false; }
  virtual File look(Node node) = 0;
  /// Names in a folder, sorted.
  virtual std::vector<Entry> entries(Node folder) = 0;
};

/// A filesystem or swap area, as it can be asked about wherever it is: on a disk that is at rest,
/// or mounted, known by its driver.
class Filesystem {
 public:
  Filesystem() = default;
  Filesystem(const Filesystem&) = delete;
  Filesystem& operator=(const Filesystem&) = delete;
  virtual ~Filesystem() = default;

  virtual Bytes size() const = 0;
  /// Its size is a multiple of this.
  virtual Bytes unit() const = 0;
  /// The most of a place of this size that it could cover.
  virtual Bytes usable(Bytes place_size) const = 0;
  /// The text of a file by path, cut at `limit` bytes. Nothing: no such file.
  virtual std::optional<std::string> read_text(const std::string& /*path*/,
                                               std::uint64_t /*limit*/) {
    return std::nullopt;
  }
  /// A file by path, to be read only, as long as this object is there. Null: there is none, or it
  /// cannot be read as it stands (compressed, encrypted).
  virtual std::unique_ptr<Store> file(const std::string& /*path*/) { return nullptr; }
  virtual FilesystemFloor floor() = 0;
  /// The way to at most `size`, which is more or less than now. Throws refused (limits, below the
  /// floor, with the size that would do), unsupported.
  virtual ResizePlan plan_resize(Bytes size) = 0;
};

/// One whose bytes are all there is of it: it can be changed, and looked at block by block.
class FilesystemOnDisk : public Filesystem {
 public:
  /// The place it is read from, and written to.
  virtual Store& store() = 0;
  /// What has to be done before it can become so large. Nothing else may be asked of this object
  /// afterwards: open it again.
  virtual void prepare(Bytes /*size*/, Progress& /*progress*/) {}
  /// Carries out the plan to exactly this size. Content that moves is written as unreferenced.
  virtual void resize(Bytes size, Progress& progress) = 0;

  /// From disk again; nothing that wrote it is asked. `from`: what it keeps of bytes in front of
  /// this is known to be sound, as far as the scope is `structure`.
  virtual void audit(AuditScope scope, Bytes from, Findings& findings, Progress& progress) = 0;
  /// What must not differ from the state before but for sizes, and is not in the tree.
  virtual void audit_kept(FilesystemOnDisk& /*before*/, bool /*content_moves*/,
                          Findings& /*findings*/) {}

  /// The first byte from `at` on, within `length`, that a growth that moves nothing must leave as
  /// it is: neither free nor of its own tables. Nothing: it may change all of it.
  virtual std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t length) = 0;
  /// Calls visit(start, end) for what it has free, ascending.
  virtual void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) = 0;
  /// "free blocks of /var": what that is, of one with this name.
  virtual std::string free_words(const std::string& name) const { return "free blocks of " + name; }
  /// Null: it holds no files.
  virtual std::unique_ptr<FileTree> tree() { return nullptr; }
};

/// What opening one has found.
struct OpenedFilesystem {
  LayerFacts facts;
  /// When the guest did not shut down properly: as its journal makes it, in memory.
  std::unique_ptr<ScratchStore> at_rest;
  /// What that takes.
  struct JournalReplay {
    std::string found;   // "3 transactions, 120 blocks"
    std::string action;  // "replay the journal: ..."
    std::uint64_t bytes_to_write = 0;
  };
  std::optional<JournalReplay> replay;
  std::unique_ptr<FilesystemOnDisk> filesystem;  // on `at_rest` if that is there; null: left alone
};

/// One kind, and how to get at it.
struct FilesystemKind {
  const char* name;
  bool audited = false;      // opening gives a Filesystem, unless something is in the way
  bool resizable = false;    // which can become larger and smaller
  bool holds_files = false;  // what room is usually meant for
  bool (*recognise)(Store& place) = nullptr;
  /// Never throws for what it finds: trouble becomes a blocker.
  OpenedFilesystem (*open)(Store& place) = nullptr;
  /// What its superblock alone says, and stays true while it is mounted: label, uuid, its size
  /// where a driver cannot be asked for it, and why a driver could not make it larger (blockers).
  void (*while_mounted)(Store& place, LayerFacts& facts) = nullptr;
  /// How long it says to be, by its superblock alone and whatever its place holds; 0: it does not
  /// say. Throws damaged for numbers that cannot be.
  std::uint64_t (*claimed_size)(Store& place) = nullptr;
  /// Whether a guest's saved memory lies where these are the first bytes: of such a place, or of a
  /// file that is used like one. Null: no guest sleeps in this kind.
  bool (*holds_saved_system)(ConstByteSpan head) = nullptr;
  /// Of resizable kinds: for a change, on a stage. Throws damaged, unsupported.
  std::unique_ptr<FilesystemOnDisk> (*open_to_change)(Store& place) = nullptr;
  /// Puts a filesystem that was not cleanly unmounted in order; null: there is nothing to do.
  void (*replay_journal)(Store& place) = nullptr;
  /// Tells it that its partition begins at another sector; null: it does not know where it begins.
  void (*set_partition_start)(Store& place, std::uint64_t from, std::uint64_t to) = nullptr;
  /// Its guest keeps the first byte of the partition elsewhere, when the table is an MBR.
  bool found_by_position = false;
};

/// A kind that is audited, and changed by a class that takes its place alone.
template <class OfKind>
FilesystemKind audited_kind(const char* name, bool (*recognise)(Store&),
                            OpenedFilesystem (*open)(Store&),
                            std::uint64_t (*claimed_size)(Store&)) {
  FilesystemKind made{name, /*audited=*/true};
  made.recognise = recognise;
  made.open = open;
  made.claimed_size = claimed_size;
  made.open_to_change = [](Store& place) -> std::unique_ptr<FilesystemOnDisk> {
    return std::make_unique<OfKind>(place);
  };
  return made;
}

/// All kinds, in the order in which a place is asked what it holds.
const std::vector<const FilesystemKind*>& filesystem_kinds();
/// The first of them that knows what a place holds; null: none does. Throws io.
const FilesystemKind* kind_in(Store& place);

}  // namespace jh

// Container: the file format a guest's disk is kept in. Nothing above this file knows which.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "core/base/errors.h"
#include "core/base/findings.h"
#include "core/base/sizes.h"
#include "core/container/file_resolver.h"
#include "core/store/store.h"

namespace jh {

enum class ImageFormat { raw, qcow2, vdi, vmdk, vhd, vhdx };
/// How a form keeps the disk: blocks as they are written, all of them from the start, or each of
/// them compressed.
enum class Allocation { sparse, full, compressed };

const char* format_name(ImageFormat format);
const char* allocation_name(Allocation allocation);

struct Snapshot {
  std::string id;
  std::string name;
  std::uint64_t made_at = 0;         // seconds since 1970
  std::optional<Bytes> disk_size{};  // of the disk then; nothing: it is not on record
  Bytes state_size{};                // of the guest's memory, if that was saved with it
  bool operator==(const Snapshot&) const = default;
};

struct ContainerFacts {
  ImageFormat format = ImageFormat::raw;
  std::string variant;  // "version 3", "two-gigabyte pieces"; may be empty
  Allocation allocation = Allocation::full;
  Bytes disk_size;                   // what the guest sees
  Bytes file_length;                 // of all its files on the host, parents not counted
  Bytes block_size;                  // unit of what is kept; 0: none
  std::uint32_t sector_size = 0;     // of the disk, as the form says; 0: it does not say
  std::uint64_t blocks = 0;          // that the disk has
  std::string limit;                 // how large this form can become; empty: no limit of note
  std::string identity;              // as children name it; may be empty
  std::string adapter;               // the controller that it is made for; may be empty
  bool encrypted = false;            // the content cannot be looked into
  std::vector<Snapshot> snapshots;   // kept inside
  std::vector<std::string> parents;  // paths, the nearest first
  std::vector<std::string> parts;    // paths of further files that hold parts of this disk
  std::vector<std::string> pending_repairs;  // what make_ready() would do
  std::vector<std::string> notes;            // for the survey
  std::vector<Error> blockers;               // why this image must not be changed in place
};

/// A stretch of the disk, and where its bytes are kept.
struct Extent {
  enum class Kind {
    data,        // at `at` in `store`
    zero,        // reads as zeros, kept nowhere
    compressed,  // kept in a way that only reading the disk shows; may say where, as data does
    below,  // not kept here: what the parent has, or else zeros; never seen outside a container
  };
  Kind kind = Kind::zero;
  std::uint64_t length = 0;
  Store* store = nullptr;
  std::uint64_t at = 0;
  bool shared = false;  // a snapshot inside has it too: it is copied, and never written to
};

/// What an image says of its disk, for those who only read it.
class ImageReader {
 public:
  ImageReader() = default;
  ImageReader(const ImageReader&) = delete;
  ImageReader& operator=(const ImageReader&) = delete;
  virtual ~ImageReader() = default;

  virtual ContainerFacts facts() = 0;
  /// The disk as the guest sees it, parents included. Stays valid until grow().
  virtual Store& disk() = 0;
  /// What lies at `offset` of the disk, at most `length` long and never empty.
  virtual Extent extent_at(std::uint64_t offset, std::uint64_t length) = 0;
  /// How many of its blocks have a place in the file; looks through all of the tables.
  virtual std::uint64_t blocks_kept() { return 0; }
  /// Every copy, table, sum and count of the form itself.
  virtual void audit(Findings& findings) = 0;
  /// Calls visit(offset, length) for all ranges of the image's file that its snapshots rely on;
  /// ranges may come more than once. Reads all of their tables.
  using FileRange = std::function<void(std::uint64_t, std::uint64_t)>;
  virtual void for_each_snapshot_range(const FileRange& /*visit*/) {}
  /// Bytes of the file that each snapshot alone keeps; empty when that cannot be told. Reads all of
  /// their tables.
  virtual std::vector<std::uint64_t> kept_by_snapshots() { return {}; }
  /// The image that this one builds on, read only; null: none.
  virtual ImageReader* parent() { return nullptr; }
};

/// An image that can be changed: how large its disk is, and which of its blocks have a place.
class Container : public ImageReader {
 public:
  /// Throws refused or unsupported when this form, or this image, cannot become so large.
  virtual void check_growth(Bytes new_size) = 0;
  /// Paths of the files that the disk gets when it becomes so large.
  virtual std::vector<std::string> new_parts(Bytes /*new_size*/) { return {}; }
  /// Paths of further files that become empty, and are named no more, when the disk is this small.
  virtual std::vector<std::string> parts_let_go(Bytes /*new_size*/) { return {}; }
  /// Before the first change: replays what waits in a log, puts counts in order, marks the content
  /// as changed.
  virtual void make_ready() {}
  /// Makes the disk larger; the new bytes read as zeros.
  virtual void grow(Bytes new_size) = 0;
  /// Throws unsupported when this form, or this image, cannot become smaller in place.
  virtual void check_shrink(Bytes new_size);
  /// Makes the disk smaller: what lies behind its new end is let go, and the file ends where the
  /// last thing in use does.
  virtual void shrink(Bytes new_size);
  /// Gives every block that this range touches a place; those that had none read as zeros, what
  /// they show of a parent is lost. Of new images.
  virtual void allocate(std::uint64_t /*offset*/, std::uint64_t /*length*/) {}
  /// Whole blocks inside this range lose their place and read as zeros; parts of blocks stay as
  /// they are. Forms without blocks of their own do nothing.
  virtual void unmap(std::uint64_t /*offset*/, std::uint64_t /*length*/) {}
  /// Whether unmap() takes the place of a block away, of an image that builds on another too; where
  /// the form has no mark for zeros, they have to be kept so that the parent does not show through.
  virtual bool has_zero_mark() const { return true; }
  /// Whole blocks inside this range lose their place, and show what the parent has there. Of images
  /// that build on another only.
  virtual void reveal_parent(std::uint64_t offset, std::uint64_t length);
  /// What the disk would show from `offset` on if the image itself kept nothing there.
  void read_parent(std::uint64_t offset, ByteSpan out);
  /// For plans, on a view that is thrown away: from here on relocate_tail() changes the tables
  /// without copying content.
  virtual void move_tables_only() {}
  /// Moves blocks from the file's end to where others were let go, and ends the file where the last
  /// thing in use ends; at most so many bytes in one call. Returns how many it moved: none, when
  /// the file has no gap left that could be closed. Only the content's places change.
  virtual std::uint64_t relocate_tail(std::uint64_t /*most*/) { return 0; }
  /// The same for compressed blocks, several of which share a place: what lies apart comes to lie
  /// side by side. The first of several calls may take some to the file's end, to have room to
  /// begin in.
  virtual std::uint64_t close_gaps(std::uint64_t /*most*/, bool /*first*/) { return 0; }
  /// Keeps the same disk sparse, or full, from now on; what is full has a place for every block.
  /// Throws unsupported where the form cannot without being written anew.
  virtual void set_allocation(Allocation allocation);
  /// The smallest unit of a disk size in this form.
  virtual Bytes size_unit() = 0;
};

/// Opens the image by what it holds, never by its name. `file` and `beside` must outlive the
/// container. Without `beside`, images that speak of other files are refused.
std::unique_ptr<Container> open_container(Store& file, FileResolver* resolver = nullptr);

/// Paths at which an image's parent may be, the likeliest first, as they can be opened; empty: it
/// has none. Reads the header only.
std::vector<std::string> parent_paths(Store& file, FileResolver& resolver);
/// The identity by which children of an image name it, with its form in front, and that by which an
/// image names its parent. Empty: it has none, or its form names parents by their paths alone.
std::string identity_of(Store& file);
std::string parent_identity_of(Store& file);
/// The further files of a disk, by the word of the file that lists them; they need not be readable.
std::vector<std::string> part_names(Store& file);

}  // namespace jh

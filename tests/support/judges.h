// Outside judges: the operating system's own makers and checkers of filesystems, and its kernel.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <vector>

#include "core/store/memory_store.h"
#include "support/program.h"

namespace jh::test {

/// A new filesystem in a file (made sparse, of this size), optionally with content: a few hundred
/// files, links, a sparse file, an indexed directory.
std::string make_ext(const std::string& path, std::uint64_t size, const Words& options,
                     bool filled = true);
/// The same in memory.
MemoryStore ext_image(std::uint64_t size, const Words& options, bool filled = true);
MemoryStore xfs_image(std::uint64_t size, const Words& options, bool filled = true);
/// A folder with such content, made once per process.
const std::string& sample_tree();

/// Empty when the system's checker, told to change nothing, is content; its words otherwise.
std::string check_ext(const std::string& image, std::uint64_t offset = 0);

/// The same for XFS: made by the system, filled by its kernel (where this process may mount).
std::string make_xfs(const std::string& path, std::uint64_t size, const Words& options,
                     bool filled = true);
/// Empty when the system's checker, told to change nothing, is content; its words otherwise. Of one
/// with parent pointers, which the checker does not know: when its kernel is.
std::string check_xfs(const std::string& image);

/// The same for btrfs.
std::string make_btrfs(const std::string& path, std::uint64_t size, const Words& options,
                       bool filled = true);
std::string check_btrfs(const std::string& image);

/// What the system's checker and our audit say of one filesystem; the audit ends with 0 or 4.
struct Verdicts {
  std::string checker;
  ProgramResult audit;
  bool found_here() const { return audit.status == 4; }
};
Verdicts verdicts_on(Store& place, const std::function<std::string(const std::string&)>& checker);

/// Whether this process may attach and mount images.
bool can_mount();

/// A read-only kernel mount of a filesystem in an image, undone at the end.
class Mounted {
 public:
  Mounted(const std::string& image, std::uint64_t offset, std::uint64_t size = 0,
          bool writable = false);
  ~Mounted();
  Mounted(const Mounted&) = delete;
  Mounted& operator=(const Mounted&) = delete;
  const std::string& path() const { return path_; }
  /// Bytes of the whole filesystem as the kernel reports it.
  std::uint64_t capacity() const;

 private:
  std::string path_;
};

/// What the kernel shows of a filesystem in an image: each name with its attributes, sums of all
/// files, extended attributes. For comparing.
std::string mounted_tree(const std::string& image);

/// Files of so many MiB in all, or as many as fit, are written by the kernel, wherever it puts
/// them, and removed. Returns the capacity that it sees.
std::uint64_t come_and_go(const std::string& image, int mebibytes);

/// Writes so many files of 250 kB of noise into a filesystem through the kernel, or as many as fit,
/// and deletes nine of ten. Returns how many it had written.
std::size_t fill_and_delete(const std::string& image, std::uint64_t offset, int files = 2000);

/// Empty when a general archiver, told the form ("qcow", "vdi", "vmdk", "vhd", "vhdx"), finds in
/// the image the very bytes of the raw disk.
std::string archiver_difference(const std::string& format, const std::string& image,
                                const std::string& raw);

/// A general archiver's reading of a table ("MBR" or "GPT"; 512-byte sectors): first byte → length.
std::map<std::uint64_t, std::uint64_t> listed_partitions(const std::string& image,
                                                         const std::string& kind);

}  // namespace jh::test

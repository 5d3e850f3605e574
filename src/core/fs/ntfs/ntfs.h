// The door to NTFS: clusters and file records stay behind it.
#pragma once

#include "core/base/ranges.h"
#include "core/fs/filesystem.h"
#include "core/fs/ntfs/filesystem.h"

namespace jh::ntfs {

extern const FilesystemKind kind;

class NtfsFilesystem final : public FilesystemOnDisk {
 public:
  /// Throws damaged, unsupported.
  explicit NtfsFilesystem(Store& store) : fs_(store) {}

  Store& store() override { return fs_.store(); }
  Bytes size() const override { return Bytes(fs_.geometry().size()); }
  Bytes unit() const override { return Bytes(fs_.geometry().sector_size); }
  Bytes usable(Bytes place_size) const override;
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override;
  std::unique_ptr<Store> file(const std::string& path) override;
  FilesystemFloor floor() override;
  ResizePlan plan_resize(Bytes size) override;
  void resize(Bytes size, Progress& progress) override;
  void audit(AuditScope scope, Bytes from, Findings& findings, Progress& progress) override;
  void audit_kept(FilesystemOnDisk& before, bool content_moves, Findings& findings) override;
  std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t length) override;
  void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) override;
  std::string free_words(const std::string& name) const override {
    return "free clusters of " + name;
  }
  std::unique_ptr<FileTree> tree() override;

  /// For what lies in this folder, and its tests.
  ntfs::Filesystem& inner() { return fs_; }

 private:
  std::uint64_t sectors_in(Bytes size) const;
  void note_own();

  ntfs::Filesystem fs_;
  // Of first_kept(), filled when it is asked for the first time.
  std::optional<Ranges> own_;  // bytes that a growth writes, and free clusters
};

}  // namespace jh::ntfs

// The door to ext2, ext3 and ext4: blocks and groups stay behind it.
#pragma once

#include "core/fs/ext/filesystem.h"
#include "core/fs/filesystem.h"

namespace jh::ext {

extern const FilesystemKind kind;

class ExtFilesystem final : public FilesystemOnDisk {
 public:
  /// Throws damaged, unsupported.
  explicit ExtFilesystem(Store& store) : fs_(store) {}

  Store& store() override { return fs_.store(); }
  Bytes size() const override { return bytes(fs_.geometry().blocks); }
  Bytes unit() const override { return Bytes(fs_.geometry().block_size); }
  Bytes usable(Bytes place_size) const override {
    return Bytes(round_down(place_size.value(), fs_.geometry().block_size));
  }
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override;
  FilesystemFloor floor() override;
  ResizePlan plan_resize(Bytes size) override;
  void prepare(Bytes size, Progress& progress) override;
  void resize(Bytes size, Progress& progress) override;
  void audit(AuditScope scope, Bytes from, Findings& findings, Progress& progress) override;
  void audit_kept(FilesystemOnDisk& before, bool content_moves, Findings& findings) override;
  std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t length) override;
  void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) override;
  std::unique_ptr<FileTree> tree() override;

  /// For what lies in this folder, and its tests.
  ext::Filesystem& inner() { return fs_; }

 private:
  Bytes bytes(std::uint64_t blocks) const {
    return Bytes(checked_mul(blocks, fs_.geometry().block_size));
  }
  ResizePlan plan_growth(std::uint64_t blocks);
  ResizePlan plan_shrinking(std::uint64_t blocks);
  bool is_kept(std::uint64_t block);
  void note_own_blocks();

  ext::Filesystem fs_;
  // Of first_kept(), filled when it is asked for the first time.
  std::optional<std::vector<std::uint64_t>>
      own_;  // sorted; blocks in use that a growth writes, but for those at the heads of groups
  std::uint32_t bitmap_group_ = UINT32_MAX;
  Buffer bitmap_;
};

}  // namespace jh::ext

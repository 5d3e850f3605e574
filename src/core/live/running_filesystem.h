// The door to a filesystem that is mounted: its driver is asked, and told.
#pragma once

#include "core/fs/filesystem.h"
#include "core/live/kernel.h"

namespace jh::live {

class RunningFilesystem final : public Filesystem {
 public:
  RunningFilesystem(Kernel& kernel, Store& place, Mount mount, MountedSize size);

  Store& store() override { return layer_; }
  Bytes size() const override { return Bytes(size_.size); }
  Bytes unit() const override { return Bytes(size_.block); }
  Bytes usable(Bytes place_size) const override;
  /// Of the root: the running system's own.
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override;
  FilesystemFloor floor() override;
  ResizePlan plan_resize(Bytes size) override;
  void resize(Bytes size, Progress& progress) override;
  void audit(AuditScope scope, Bytes from, Findings& findings, Progress& progress) override;
  std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t length) override;
  void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) override;

 private:
  Kernel& kernel_;
  Store& layer_;
  Mount mount_;
  MountedSize size_;
};

}  // namespace jh::live

// A filesystem that is mounted, as its driver knows it.
#pragma once

#include "core/fs/filesystem.h"
#include "core/live/kernel.h"

namespace jh::live {

class RunningFilesystem final : public Filesystem {
 public:
  RunningFilesystem(KernelFacts& kernel, Mount mount, MountedSize size);

  Bytes size() const override { return Bytes(size_.size); }
  Bytes unit() const override { return Bytes(size_.block); }
  Bytes usable(Bytes place_size) const override;
  /// Of the root: the running system's own.
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override;
  FilesystemFloor floor() override;
  ResizePlan plan_resize(Bytes size) override;

 private:
  KernelFacts& kernel_;
  Mount mount_;
  MountedSize size_;
};

}  // namespace jh::live

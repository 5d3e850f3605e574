// The files of an NTFS volume as a tree: base records are its nodes.
#pragma once

#include "core/fs/filesystem.h"
#include "core/fs/ntfs/filesystem.h"

namespace jh::ntfs {

class NtfsTree final : public FileTree {
 public:
  /// `fs` must outlive it.
  explicit NtfsTree(Filesystem& fs) : fs_(fs) {}
  std::vector<Root> roots() override { return {{"/", file::root}}; }
  std::vector<Node> passed_over() override;
  Node node_end() const override { return fs_.records(); }
  File look(Node node) override;
  std::vector<Entry> entries(Node folder) override;

 private:
  Filesystem& fs_;
};

}  // namespace jh::ntfs

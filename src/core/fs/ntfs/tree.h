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
  Record record(Node node);

  Filesystem& fs_;
  // Files are asked for one by one, mostly in their order: so many records were read at once.
  Buffer records_;
  Node first_ = 0;
  Node last_asked_ = 0;
};

}  // namespace jh::ntfs

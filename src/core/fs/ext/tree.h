// The files of an ext filesystem as a tree: inodes are its nodes.
#pragma once

#include "core/fs/ext/filesystem.h"
#include "core/fs/filesystem.h"

namespace jh::ext {

class ExtTree final : public FileTree {
 public:
  /// `fs` must outlive it.
  explicit ExtTree(Filesystem& fs) : fs_(fs) {}
  std::vector<Root> roots() override;
  std::vector<Node> passed_over() override;
  Node node_end() const override { return fs_.geometry().inodes() + 1; }
  File look(Node node) override;
  std::vector<Entry> entries(Node folder) override;

 private:
  Filesystem& fs_;
};

}  // namespace jh::ext

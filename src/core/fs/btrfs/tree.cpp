#include "core/fs/btrfs/tree.h"

#include <fmt/format.h>

#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/nodes.h"

namespace jh::btrfs {
namespace {

constexpr FileTree::Node root_node = 1;

class ChunkFiles final : public FileTree {
 public:
  explicit ChunkFiles(const Volume& volume) : volume_(volume) {
    for (const auto& [logical, chunk] : volume.chunks())
      for (std::size_t i = 0; i < chunk.copies.size(); ++i) copies_.push_back({logical, i});
    const auto leave_out = [&](const TreeBlock& block) {
      add_range(tables_, block.block, block.block + volume.node_size());
      return true;
    };
    walk_tree(volume, volume.chunk_tree(), leave_out);
    if (const auto root = volume.tree(object::device_tree)) walk_tree(volume, *root, leave_out);
  }

  std::vector<Root> roots() override { return {{"/", root_node}}; }
  Node node_end() const override { return root_node + 1 + copies_.size(); }

  File look(Node node) override {
    File file;
    if (node == root_node) {
      file.folder = true;
      return file;
    }
    const auto [logical, copy] = copies_.at(node - root_node - 1);
    const Chunk& chunk = volume_.chunks().at(logical);
    file.facts.resize(24);
    put_at(file.facts, 0, Le64(logical));
    put_at(file.facts, 8, Le64(chunk.length));
    put_at(file.facts, 16, Le64(chunk.type));
    const std::uint64_t at = chunk.copies[copy];
    for_each_extent(volume_, logical, logical + chunk.length, [&](const btrfs::Extent& extent) {
      if (overlaps(tables_, extent.start, extent.start + extent.length)) return;
      const std::uint64_t inside = extent.start - logical;
      auto& content = file.content;
      const bool joins =
          !content.empty() && content.back().offset + content.back().length == inside;
      if (joins)
        content.back().length += extent.length;
      else
        content.push_back({Extent::Kind::data, inside, at + inside, extent.length});
    });
    return file;
  }

  std::vector<Entry> entries(Node) override {
    std::vector<Entry> all;
    for (std::size_t i = 0; i < copies_.size(); ++i)
      all.push_back({fmt::format("chunk {}, copy {}", copies_[i].first, copies_[i].second + 1),
                     root_node + 1 + i, 0});
    return all;
  }

 private:
  const Volume& volume_;
  std::vector<std::pair<std::uint64_t, std::size_t>> copies_;
  Ranges tables_;  // logical
};

}  // namespace

std::unique_ptr<FileTree> chunk_files(const Volume& volume) {
  return std::make_unique<ChunkFiles>(volume);
}

}  // namespace jh::btrfs

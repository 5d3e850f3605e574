#include "core/fs/xfs/tree.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/xfs/inode.h"

namespace jh::xfs {
namespace {

class XfsTree final : public FileTree {
 public:
  XfsTree(Store& place, const Geometry& geometry) : place_(place), geometry_(geometry) {
    const Superblock& super = geometry.superblock();
    const unsigned shift = super.group_blocks_log + super.inodes_per_block_log;
    for (std::uint32_t number = 0; number < geometry.groups(); ++number) {
      const Group group(place, geometry, number);
      group.walk(Tree::inodes, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
        for (std::size_t i = 0; i < records; ++i) {
          const auto chunk = parse_as<InodeChunk>(data, i * sizeof(InodeChunk));
          const std::uint64_t first = std::uint64_t{number} << shift | chunk.first.value();
          if (!chunks_.empty() && first < chunks_.back() + inodes_per_chunk)
            corrupt("inode records are out of order");
          chunks_.push_back(first);
        }
      });
    }
  }

  std::vector<Root> roots() override {
    const Superblock& super = geometry_.superblock();
    std::vector<Root> all{{"/", node_of(super.root_inode.value())}};
    const auto add = [&](const char* name, std::uint64_t inode) {
      if (inode != 0 && inode != UINT64_MAX) all.push_back({name, node_of(inode)});
    };
    add("(realtime bitmap)", super.realtime_bitmap.value());
    add("(realtime summary)", super.realtime_summary.value());
    add("(user quota)", super.user_quota_inode.value());
    if (super.group_quota_inode.value() != super.user_quota_inode.value())
      add("(group quota)", super.group_quota_inode.value());
    add("(project quota)", super.project_quota_inode.value());
    return all;
  }

  // Number 0 stands for none.
  Node node_end() const override { return (chunks_.size() + 1) * inodes_per_chunk; }

  File look(Node node) override {
    const InodeFile file(place_, geometry_, inode_of(node));
    File out;
    out.folder = file.is_folder();
    // All of the core but its checksum, and when it was logged last.
    Inode core = file.core();
    core.checksum = 0;
    core.log_sequence = 0;
    append(out.facts, bytes_of(core));
    const std::uint8_t format = core.format;
    if (format == fork::local || format == fork::device) append(out.facts, file.data_fork());
    const std::uint64_t block = geometry_.block_size();
    if (!out.folder && (format == fork::extents || format == fork::tree))
      for (const FileExtent& extent : file.extents())
        out.content.push_back(
            {extent.unwritten ? Extent::Kind::zeros : Extent::Kind::data, extent.offset * block,
             extent.unwritten ? 0 : geometry_.block_at(extent.block), extent.count * block});
    append(out.attributes, file.attribute_fork());
    for (const FileExtent& extent : file.extents(/*attributes=*/true))
      append(out.attributes,
             read_buffer(place_, geometry_.block_at(extent.block), extent.count * block));
    return out;
  }

  std::vector<Entry> entries(Node folder) override {
    std::vector<Entry> all;
    InodeFile(place_, geometry_, inode_of(folder))
        .for_each_entry([&](const InodeFile::Entry& entry) {
          all.push_back({entry.name, node_of(entry.inode), 0});
        });
    std::sort(all.begin(), all.end(),
              [](const Entry& a, const Entry& b) { return a.name < b.name; });
    return all;
  }

 private:
  static void append(Buffer& out, ConstByteSpan bytes) {
    out.insert(out.end(), bytes.begin(), bytes.end());
  }

  Node node_of(std::uint64_t inode) const {
    const auto next = std::upper_bound(chunks_.begin(), chunks_.end(), inode);
    if (next == chunks_.begin() || inode - *(next - 1) >= inodes_per_chunk)
      corrupt(fmt::format("inode {} is in no record", inode));
    const auto chunk = static_cast<std::uint64_t>(next - chunks_.begin());  // from 1
    return chunk * inodes_per_chunk + (inode - *(next - 1));
  }
  std::uint64_t inode_of(Node node) const {
    return chunks_.at(node / inodes_per_chunk - 1) + node % inodes_per_chunk;
  }

  Store& place_;
  const Geometry& geometry_;
  std::vector<std::uint64_t> chunks_;  // the first inode of each record, ascending
};

}  // namespace

std::unique_ptr<FileTree> file_tree(Store& place, const Geometry& geometry) {
  return std::make_unique<XfsTree>(place, geometry);
}

}  // namespace jh::xfs

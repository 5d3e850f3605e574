#include "core/fs/xfs/tree.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/xfs/attributes.h"
#include "core/fs/xfs/content_format.h"
#include "core/fs/xfs/quota.h"

namespace jh::xfs {
namespace {

class XfsTree final : public FileTree {
 public:
  XfsTree(Store& place, const Geometry& geometry) : place_(place), geometry_(geometry) {
    for (std::uint32_t number = 0; number < geometry.groups(); ++number)
      for (const InodeChunk& chunk : Group(place, geometry, number).chunks())
        chunks_.push_back(geometry.inode_number(number, chunk.first.value()));
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

  // What quota counts follows the lists of extents; limits are compared record by record.
  std::vector<Node> passed_over() override {
    std::vector<Node> all;
    for (const std::uint64_t inode : quota_inodes(geometry_.superblock()))
      all.push_back(node_of(inode));
    return all;
  }

  // Number 0 stands for none.
  Node node_end() const override { return (chunks_.size() + 1) * inodes_per_chunk; }

  File look(Node node) override {
    const InodeFile file(place_, geometry_, inode_of(node));
    File out;
    out.folder = file.is_folder();
    append(out.facts, bytes_of(kept_facts(file)));
    const std::uint8_t format = file.core().format;
    if ((format == fork::local && !out.folder) || format == fork::device)
      append(out.facts, file.data_fork());
    const bool has_extents = format == fork::extents || format == fork::tree;
    if (file.is_link() && has_extents)
      append(out.facts, link_text(file));
    else if (!out.folder && has_extents)
      add_content(file, out.content);
    add_attributes(file, out.attributes);
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
  // All of the core but where it is and its lists are, how these are written, its checksum, and
  // when it was logged last. A folder in its inode takes less room where numbers become smaller.
  static Inode kept_facts(const InodeFile& file) {
    Inode core = file.core();
    core.checksum = 0;
    core.log_sequence = 0;
    core.number = 0;
    core.blocks = 0;
    core.extents = 0;
    core.many_extents = 0;
    core.attribute_extents = 0;
    if (core.format == fork::tree) core.format = fork::extents;
    if (core.attribute_format == fork::tree) core.attribute_format = fork::extents;
    if (file.is_folder() && core.format == fork::local) core.size = 0;
    return core;
  }

  // Each extent begins with a header.
  Buffer link_text(const InodeFile& link) {
    Buffer text;
    for (const FileExtent& extent : link.extents()) {
      if (extent.count * geometry_.block_size() > 1U << 17)
        corrupt(fmt::format("inode {}: its text is longer than can be", link.number()));
      append(text, ConstByteSpan(read_buffer(place_, geometry_.block_at(extent.block),
                                             extent.count * geometry_.block_size()))
                       .subspan(sizeof(TextHeader)));
    }
    return text;
  }

  void add_content(const InodeFile& file, std::vector<Extent>& content) const {
    const std::uint64_t block = geometry_.block_size();
    for (const FileExtent& extent : file.extents())
      content.push_back(
          {extent.unwritten ? Extent::Kind::zeros : Extent::Kind::data, extent.offset * block,
           extent.unwritten ? 0 : geometry_.block_at(extent.block), extent.count * block});
  }

  // Blocks as they are, but for whose they are and where they lie.
  void add_attributes(const InodeFile& file, Buffer& attributes) {
    const bool parents = geometry_.is(incompatible::parent_pointers);
    if (parents)
      add_all_but_parents(file, attributes);
    else if (file.core().attribute_format == fork::local)
      append(attributes, file.attribute_fork());
    for (const FileExtent& extent : file.extents(/*attributes=*/true))
      for (std::uint64_t i = 0; i < extent.count; ++i) {
        Buffer block =
            read_buffer(place_, geometry_.block_at(extent.block) + i * geometry_.block_size(),
                        geometry_.block_size());
        if (parse_as<Be32>(block, 0).value() == block_magic::remote_value)
          unsign<TextHeader>(block);
        else if (!parents)
          unsign<IndexHeader>(block);
        else
          continue;
        append(attributes, bytes_of(Be64(extent.offset + i)));
        append(attributes, block);
      }
  }
  // Parent pointers follow the numbers of folders, and where attributes stand follows them. The
  // audit holds each of them against the folder's name, and those are compared by themselves.
  void add_all_but_parents(const InodeFile& file, Buffer& attributes) const {
    if (file.attribute_fork().empty()) return;
    const auto add = [&](const Attribute& each, ConstByteSpan whole) {
      if (each.is_parent()) return;
      attributes.push_back(each.flags);
      append(attributes, whole);
    };
    if (file.core().attribute_format == fork::local) {
      const ConstByteSpan fork = file.attribute_fork();
      for_each_short_attribute(fork, [&](const Attribute& each) {
        const std::size_t begin = each.value - each.name.size() - 3;
        add(each, fork.subspan(begin, 3 + each.name.size() + fork[begin + 1]));
      });
      return;
    }
    for_each_attribute_in_leaves(
        geometry_, file, [](std::uint64_t, ConstByteSpan) {},
        [&](const Attribute& each, ConstByteSpan) { add(each, each.whole); });
  }
  template <class Header>
  static void unsign(ByteSpan block) {
    auto header = parse_as<Header>(block, 0);
    header.owner = 0;
    header.address = 0;
    header.checksum = 0;
    put_at(block, 0, header);
  }

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

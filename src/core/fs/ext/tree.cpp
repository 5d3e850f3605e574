#include "core/fs/ext/tree.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/ext/map_edit.h"
#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

using Node = FileTree::Node;

// Numbers of the inodes that hold values, which are set to zero in the list.
void take_values(ByteSpan entries, std::vector<Node>& values) {
  change_value_inodes(entries, [&](std::uint32_t number) {
    values.push_back(number);
    return 0U;
  });
}

// The inode without what may change: places, counts of blocks, checksums, numbers of inodes.
Buffer facts_of(const Filesystem& fs, const InodeRecord& inode, std::vector<Node>& values) {
  InodeRecord facts = inode;
  const bool inline_folder = inode.type() == mode_dir && inode.has_flag(flag_inline_data);
  if (has_blocks(inode) || inline_folder) facts.fields.block = {};
  facts.fields.blocks_lo = 0;
  facts.fields.blocks_hi = 0;
  facts.fields.file_acl_lo = 0;
  facts.fields.file_acl_hi = 0;
  facts.fields.checksum_lo = 0;
  if (facts.raw.size() > old_inode_size) facts.fields.checksum_hi = 0;
  facts.store_fields();
  if (inline_folder) {
    if (const auto rest = inline_rest(inode))
      std::fill_n(facts.raw.begin() + static_cast<std::ptrdiff_t>(rest->first), rest->second,
                  std::uint8_t{0});
  }
  if (const auto start = attributes_at(inode);
      start && fs.geometry().has_incompat(incompat::ea_inode))
    take_values(ByteSpan(facts.raw).subspan(*start), values);
  return facts.raw;
}

Buffer attributes_of(Filesystem& fs, const InodeRecord& inode, std::vector<Node>& values) {
  if (inode.attribute_block() == 0) return {};
  Buffer raw = fs.read_block(inode.attribute_block());
  auto header = parse_as<XattrHeader>(raw, 0);
  header.checksum = 0;
  put_at(raw, 0, header);
  take_values(ByteSpan(raw).subspan(sizeof(XattrHeader)), values);
  return raw;
}

}  // namespace

std::vector<FileTree::Root> ExtTree::roots() {
  std::vector<Root> roots{{"/", root_ino}};
  const std::uint32_t resize = fs_.geometry().has_compat(compat::resize_inode) ? resize_ino : 0;
  // What quota counts follows the lists of extents; the checker of the guest compares it.
  const std::uint32_t user = fs_.super().usr_quota_inum.value();
  const std::uint32_t group = fs_.super().grp_quota_inum.value();
  for (std::uint32_t ino = 3; ino < fs_.geometry().first_ino; ++ino)
    if (ino != resize && ino != user && ino != group)
      roots.push_back({fmt::format("inode {}", ino), ino});
  return roots;
}

std::vector<FileTree::Node> ExtTree::passed_over() {
  if (!fs_.geometry().has_compat(compat::orphan_file)) return {};
  // Its blocks hold their own numbers: only that it is there can be compared.
  return {fs_.super().orphan_file_inum.value()};
}

FileTree::File ExtTree::look(Node node) {
  const InodeRecord inode = fs_.read_inode(static_cast<std::uint32_t>(node));
  File file;
  file.folder = inode.type() == mode_dir;
  file.facts = facts_of(fs_, inode, file.values);
  file.attributes = attributes_of(fs_, inode, file.values);
  if (file.folder || !has_blocks(inode)) return file;
  const std::uint64_t bs = fs_.geometry().block_size;
  for (const MappedExtent& run : read_runs(fs_, inode))
    file.content.push_back({run.unwritten ? Extent::Kind::zeros : Extent::Kind::data,
                            run.logical * bs, run.physical * bs, run.count * bs});
  return file;
}

std::vector<FileTree::Entry> ExtTree::entries(Node folder) {
  std::vector<Entry> names;
  read_directory(fs_, fs_.read_inode(static_cast<std::uint32_t>(folder)),
                 [&](const DirectoryEntry& entry) {
                   names.push_back({entry.name, entry.ino, entry.file_type});
                   return true;
                 });
  std::sort(names.begin(), names.end(),
            [](const Entry& a, const Entry& b) { return a.name < b.name; });
  return names;
}

}  // namespace jh::ext

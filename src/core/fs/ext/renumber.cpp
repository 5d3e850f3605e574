// Inodes of groups that go get other numbers. A number stands in the directory entries that lead to
// it, in the entries of its own directory, in attributes whose value it is, in the superblock, and
// it is part of what the checksums of all its blocks start from.
#include <fmt/format.h>

#include <unordered_map>

#include "core/base/checksum.h"
#include "core/fs/ext/directory_edit.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/shrink.h"

namespace jh::ext {
namespace {

class Renumbering {
 public:
  Renumbering(Filesystem& fs, std::uint32_t last)
      : fs_(fs), g_(fs.geometry()), last_(last), allocation_(fs) {
    allocation_.set_limit(g_.blocks);
  }

  std::uint32_t run() {
    for (std::uint32_t group = last_ / g_.inodes_per_group; group < g_.group_count; ++group)
      for_each_used_inode(fs_, group, [&](std::uint32_t ino) { choose(ino); });
    for (const auto& [from, to] : numbers_) move(from, to);
    allocation_.finish();
    if (numbers_.empty()) return 0;
    for (std::uint32_t group = 0; group < last_ / g_.inodes_per_group; ++group)
      for_each_used_inode(fs_, group, [&](std::uint32_t ino) { follow(ino); });
    change_super();
    return static_cast<std::uint32_t>(numbers_.size());
  }

 private:
  std::uint32_t number_of(std::uint32_t old) const {
    const auto found = numbers_.find(old);
    return found == numbers_.end() ? old : found->second;
  }

  void choose(std::uint32_t ino) {
    const InodeRecord inode = fs_.read_inode(ino);
    const auto to = allocation_.allocate_inode(last_, inode.type() == mode_dir);
    if (!to)
      refuse("there are not enough free inodes in front of the new end", "ext filesystem",
             "ask for less, or remove some files inside the guest first");
    numbers_[ino] = *to;
  }

  // Slots that were never in use may hold anything; from here on they are looked at.
  void clear_slots_before(std::uint32_t ino) {
    const std::uint32_t group = (ino - 1) / g_.inodes_per_group;
    const std::uint32_t slot = (ino - 1) % g_.inodes_per_group;
    const Group fields = fs_.group(group);
    auto [known, fresh] = cleared_.try_emplace(
        group, fields.inode_uninit()
                   ? 0
                   : g_.inodes_per_group - std::min(fields.itable_unused, g_.inodes_per_group));
    for (; known->second <= slot; ++known->second)
      fs_.store().write(fs_.inode_offset(group * g_.inodes_per_group + known->second + 1),
                        Buffer(g_.inode_size));
  }

  void move(std::uint32_t from, std::uint32_t to) {
    InodeRecord inode = fs_.read_inode(from);
    clear_slots_before(to);
    std::vector<std::uint64_t> tree;
    BlockVisitor visitor;
    visitor.data = [](const MappedExtent&) { return true; };
    visitor.tree = [&](std::uint64_t block) {
      tree.push_back(block);
      return true;
    };
    const bool checksums = g_.metadata_csum() && inode.has_flag(flag_extents);
    if (checksums) visit_blocks(fs_, inode, visitor);
    inode.ino = to;
    for (const std::uint64_t block : tree) {
      Buffer raw = fs_.read_block(block);
      set_extent_sum(fs_, inode, raw);
      fs_.store().write(g_.offset(block), raw);
    }
    fs_.write_inode(inode);
    moved_[to] = from;
    if (g_.has_compat(compat::orphan_file) && from == fs_.super().orphan_file_inum.value())
      sum_orphan_file(fs_, inode);
  }

  void follow(std::uint32_t ino) {
    InodeRecord inode = fs_.read_inode(ino);
    if (inode.fields.links_count.value() == 0 && ino >= g_.first_ino) return;
    if (inode.type() == mode_dir) follow_directory(inode);
    if (g_.has_incompat(incompat::ea_inode)) follow_attributes(inode);
  }

  void follow_directory(InodeRecord& inode) {
    if (inode.has_flag(flag_inline_data)) {
      follow_inline(inode);
      return;
    }
    const bool all = moved_.contains(inode.ino);
    BlockVisitor visitor;
    visitor.data = [&](const MappedExtent& run) {
      for (std::uint64_t i = 0; i < run.count && !run.unwritten; ++i) {
        Buffer raw = fs_.read_block(run.physical + i);
        if (!follow_entries(raw) && !(all && g_.metadata_csum())) continue;
        if (g_.metadata_csum()) set_directory_sum(fs_, inode, run.logical + i, raw);
        fs_.store().write(g_.offset(run.physical + i), raw);
      }
      return true;
    };
    visit_blocks(fs_, inode, visitor);
  }

  bool follow_entries(ByteSpan raw) {
    bool changed = false;
    for (std::size_t at = 0; at + sizeof(DirEntry) <= raw.size();) {
      auto entry = parse_as<DirEntry>(raw, at);
      const std::uint32_t length = entry_length(entry.rec_len.value(), g_.block_size);
      if (length < sizeof(DirEntry) || length > raw.size() - at)
        damaged("a directory block is damaged", "ext filesystem",
                "check the filesystem inside the guest first");
      const std::uint32_t now = number_of(entry.inode.value());
      if (now != entry.inode.value()) {
        entry.inode = now;
        put_at(raw, at, entry);
        changed = true;
      }
      at += length;
    }
    return changed;
  }

  // The parent's number, entries in the inode, and further ones in its attribute.
  void follow_inline(InodeRecord& inode) {
    ByteSpan block = ByteSpan(inode.raw).subspan(offsetof(Inode, block), sizeof(Inode::block));
    bool changed = false;
    const std::uint32_t parent = parse_as<Le32>(block, 0).value();
    if (number_of(parent) != parent) {
      Le32 now;
      now = number_of(parent);
      put_at(block, 0, now);
      changed = true;
    }
    changed = follow_entries(block.subspan(4)) || changed;
    const auto rest = inline_rest(inode);
    if (rest && rest->second != 0)
      changed = follow_entries(ByteSpan(inode.raw).subspan(rest->first, rest->second)) || changed;
    if (!changed) return;
    std::memcpy(&inode.fields, inode.raw.data(), std::min(inode.raw.size(), sizeof(Inode)));
    fs_.write_inode(inode);
  }

  void follow_attributes(InodeRecord& inode) {
    const auto change = [&](std::uint32_t old) { return number_of(old); };
    const auto start = attributes_at(inode);
    if (start && change_value_inodes(ByteSpan(inode.raw).subspan(*start), change))
      fs_.write_inode(inode);
    const std::uint64_t block = inode.attribute_block();
    if (block == 0) return;
    Buffer raw = fs_.read_block(block);
    if (parse_as<Le32>(raw, 0).value() != xattr_magic) return;
    // Blocks are shared; one that was changed names no old number any more.
    if (!change_value_inodes(ByteSpan(raw).subspan(sizeof(XattrHeader)), change)) return;
    if (g_.metadata_csum()) {
      auto header = parse_as<XattrHeader>(raw, 0);
      header.checksum = fs_.checksums().xattr_block(block, raw);
      put_at(raw, 0, header);
    }
    fs_.store().write(g_.offset(block), raw);
  }

  void change_super() {
    Superblock& super = fs_.edit_super();
    for (Le32 Superblock::*field :
         {&Superblock::journal_inum, &Superblock::usr_quota_inum, &Superblock::grp_quota_inum,
          &Superblock::prj_quota_inum, &Superblock::lpf_ino, &Superblock::orphan_file_inum})
      super.*field = number_of((super.*field).value());
    fs_.write_super(0);
  }

  Filesystem& fs_;
  const Geometry g_;
  std::uint32_t last_;
  Allocation allocation_;
  std::unordered_map<std::uint32_t, std::uint32_t> numbers_;  // old → new
  std::unordered_map<std::uint32_t, std::uint32_t> moved_;    // new → old
  std::unordered_map<std::uint32_t, std::uint32_t> cleared_;  // group → slots that are in order
};

}  // namespace

std::uint32_t renumber_inodes(Filesystem& fs, std::uint32_t last) {
  return Renumbering(fs, last).run();
}

}  // namespace jh::ext

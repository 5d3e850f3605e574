#include "core/fs/ext/orphans.h"

#include <fmt/format.h>

#include <set>

#include "core/base/checksum.h"
#include "core/fs/ext/quota.h"

namespace jh::ext {
namespace {

// Trims the lists of one inode; what it frees is given back at once.
class Cutter {
 public:
  Cutter(Filesystem& fs, Allocation& allocation, InodeRecord& inode, std::uint64_t first)
      : fs_(fs),
        allocation_(allocation),
        inode_(inode),
        first_(first),
        left_(fs.geometry().blocks) {}

  void run() {
    inode_.store_fields();
    ByteSpan root = ByteSpan(inode_.raw).subspan(offsetof(Inode, block), sizeof(Inode::block));
    if (inode_.has_flag(flag_extents)) {
      extent_node(root, 0);
    } else {
      std::uint64_t logical = 0;
      for (std::size_t i = 0; i < 15; ++i)
        indirect_entry(root.subspan(i * 4, 4), i < 12 ? 0 : static_cast<std::uint32_t>(i - 11),
                       logical);
    }
    std::memcpy(&inode_.fields, inode_.raw.data(), std::min(inode_.raw.size(), sizeof(Inode)));
    lower_count();
  }

 private:
  // By whole clusters. Two extents may lie in one: it goes once, and not while another part stays.
  void free(std::uint64_t block, std::uint64_t count) {
    const Geometry& g = fs_.geometry();
    fs_.check_run(block, count);
    if (g.cluster_ratio == 1) {
      allocation_.release(block, count);
      freed_ += count;
      return;
    }
    for (std::uint64_t cluster = cluster_of(block); cluster <= cluster_of(block + count - 1);
         ++cluster) {
      if (cluster == kept_cluster_ || cluster == freed_cluster_) continue;
      allocation_.release(g.first_data_block + cluster * g.cluster_ratio, 1);
      freed_cluster_ = cluster;
      freed_ += g.cluster_ratio;
    }
  }

  std::uint64_t cluster_of(std::uint64_t block) const {
    return (block - fs_.geometry().first_data_block) / fs_.geometry().cluster_ratio;
  }

  Buffer read_list(std::uint64_t block) {
    // A tree has no more blocks than the filesystem; one that comes back to itself has.
    if (left_ == 0)
      damaged(fmt::format("inode {}: its tree of blocks does not end", inode_.ino), "ext",
              start_the_guest_first);
    --left_;
    return fs_.read_block(block);
  }

  // Returns whether any entry is left.
  bool extent_node(ByteSpan raw, std::uint32_t level) {
    auto header = parse_as<ExtentHeader>(raw, 0);
    const std::size_t room = (raw.size() - sizeof(ExtentHeader)) / sizeof(Extent);
    if (header.magic.value() != extent_magic || header.entries.value() > room ||
        level > max_extent_depth)
      damaged(fmt::format("inode {}: its extent tree is damaged", inode_.ino), "ext",
              start_the_guest_first);
    std::uint16_t kept = 0;
    for (std::uint16_t i = 0; i < header.entries.value(); ++i) {
      const std::size_t at = sizeof(ExtentHeader) + i * sizeof(Extent);
      const bool keep = header.depth.value() == 0 ? extent(raw, at) : index(raw, at, level);
      if (!keep) break;  // entries ascend: all behind goes too, as the loop below sees to
      ++kept;
    }
    for (std::uint16_t i = kept; i < header.entries.value(); ++i) {
      const std::size_t at = sizeof(ExtentHeader) + i * sizeof(Extent);
      if (i != kept) {
        if (header.depth.value() == 0) {
          extent(raw, at);
        } else {
          index(raw, at, level);
        }
      }
      std::fill_n(raw.begin() + static_cast<std::ptrdiff_t>(at), sizeof(Extent), std::uint8_t{0});
    }
    header.entries = kept;
    if (kept == 0 && level == 0) header.depth = 0;
    put_at(raw, 0, header);
    return kept != 0;
  }

  bool extent(ByteSpan raw, std::size_t at) {
    auto entry = parse_as<Extent>(raw, at);
    const bool unwritten = entry.len.value() > max_written_extent;
    const std::uint32_t count = entry.len.value() - (unwritten ? max_written_extent : 0);
    const std::uint64_t physical = entry.start_lo.value() | std::uint64_t{entry.start_hi.value()}
                                                                << 32;
    const std::uint64_t logical = entry.block.value();
    const std::uint64_t stay =
        std::min<std::uint64_t>(count, first_ > logical ? first_ - logical : 0);
    if (stay != 0) {
      fs_.check_run(physical, stay);
      kept_cluster_ = cluster_of(physical + stay - 1);
    }
    if (stay == count) return count != 0;
    free(physical + stay, count - stay);
    entry.len = static_cast<std::uint16_t>(stay + (unwritten ? max_written_extent : 0));
    if (stay != 0) put_at(raw, at, entry);
    return stay != 0;
  }

  bool index(ByteSpan raw, std::size_t at, std::uint32_t level) {
    const auto entry = parse_as<ExtentIndex>(raw, at);
    const std::uint64_t child = entry.leaf_lo.value() | std::uint64_t{entry.leaf_hi.value()} << 32;
    Buffer block = read_list(child);
    if (!extent_node(block, level + 1)) {
      free(child, 1);
      return false;
    }
    set_extent_sum(fs_, inode_, block);
    fs_.store().write(fs_.geometry().offset(child), block);
    return true;
  }

  // Returns whether the entry is kept.
  bool indirect_entry(ByteSpan slot, std::uint32_t level, std::uint64_t& logical) {
    const std::uint32_t block = parse_as<Le32>(slot, 0).value();
    std::uint64_t span = 1;
    for (std::uint32_t i = 0; i < level; ++i) span *= fs_.geometry().block_size / 4;
    if (block == 0 || logical + span <= first_) {
      logical += span;
      return block != 0;
    }
    bool keep = false;
    if (level == 0) {
      keep = logical++ < first_;
    } else {
      Buffer list = read_list(block);
      for (std::size_t at = 0; at < list.size(); at += 4)
        keep = indirect_entry(ByteSpan(list).subspan(at, 4), level - 1, logical) || keep;
      if (keep) fs_.store().write(fs_.geometry().offset(block), list);
    }
    if (!keep) {
      free(block, 1);
      std::fill(slot.begin(), slot.end(), std::uint8_t{0});
    }
    return keep;
  }

  void lower_count() {
    const Geometry& g = fs_.geometry();
    const std::uint64_t count = inode_.counted();
    inode_.set_counted(count - std::min(count, freed_ * inode_.count_unit(g)));
    inode_.store_fields();
  }

  Filesystem& fs_;
  Allocation& allocation_;
  InodeRecord& inode_;
  std::uint64_t first_;
  std::uint64_t left_;  // blocks of the tree that may still be read
  std::uint64_t freed_ = 0;
  std::uint64_t kept_cluster_ = UINT64_MAX;
  std::uint64_t freed_cluster_ = UINT64_MAX;
};

// Attributes whose values lie in inodes of their own: those would have to be let go as well.
void refuse_attribute_inodes(Filesystem& fs, const InodeRecord& inode) {
  if (!fs.geometry().has_incompat(incompat::ea_inode)) return;
  const std::size_t at = old_inode_size + inode.fields.extra_isize.value();
  const bool in_inode = inode.raw.size() > old_inode_size && at + 4 <= inode.raw.size() &&
                        parse_as<Le32>(inode.raw, at).value() == xattr_magic;
  if (inode.attribute_block() != 0 || in_inode)
    unsupported(fmt::format("inode {} was deleted while open, and has attributes that may lie in "
                            "inodes of their own",
                            inode.ino),
                "ext", start_the_guest_first);
}

void release_attribute_block(Filesystem& fs, Allocation& allocation, const InodeRecord& inode) {
  const std::uint64_t block = inode.attribute_block();
  if (block == 0) return;
  Buffer raw = fs.read_block(block);
  auto header = parse_as<XattrHeader>(raw, 0);
  if (header.magic.value() != xattr_magic)
    damaged(fmt::format("inode {}: its attribute block is damaged", inode.ino), "ext",
            start_the_guest_first);
  if (header.refcount.value() <= 1) {
    allocation.release(block, 1);
    return;
  }
  header.refcount = header.refcount.value() - 1;
  put_at(raw, 0, header);
  if (fs.geometry().metadata_csum()) {
    header.checksum = fs.checksums().xattr_block(block, raw);
    put_at(raw, 0, header);
  }
  fs.store().write(fs.geometry().offset(block), raw);
}

// What its owner has less of it than before.
void lower_usage(Filesystem& fs, const InodeRecord& before, std::uint64_t blocks_left, int inodes) {
  const Geometry& g = fs.geometry();
  UsageChange change = owner_of(g, before);
  const std::uint64_t blocks = before.counted() / before.count_unit(g);
  change.bytes =
      -static_cast<std::int64_t>((blocks - std::min(blocks, blocks_left)) * g.block_size);
  change.inodes = -inodes;
  change_usage(fs, change);
}

void clean_up_one(Filesystem& fs, Allocation& allocation, std::uint32_t ino, OrphanCounts& counts) {
  InodeRecord inode = fs.read_inode(ino);
  if (inode.fields.links_count.value() != 0) {
    const std::uint64_t bs = fs.geometry().block_size;
    const InodeRecord before = inode;
    inode.fields.dtime = 0;
    if (has_blocks(inode)) cut_blocks(fs, allocation, inode, ceil_div(inode.size(), bs));
    fs.write_inode(inode);
    lower_usage(fs, before, inode.counted() / inode.count_unit(fs.geometry()), 0);
    ++counts.cut;
    return;
  }
  remove_inode(fs, allocation, ino);
  lower_usage(fs, inode, 0, 1);
  ++counts.removed;
}

// The orphan file: blocks of inode numbers with a tail.
std::vector<std::uint32_t> clear_orphan_file(Filesystem& fs) {
  std::vector<std::uint32_t> found;
  const Geometry& g = fs.geometry();
  const std::uint32_t ino = fs.super().orphan_file_inum.value();
  const InodeRecord file = fs.read_inode(ino);
  const std::uint32_t seed = fs.seed_of(file);
  BlockVisitor visitor;
  visitor.data = [&](const MappedExtent& run) {
    for (std::uint64_t i = 0; i < run.count; ++i) {
      const std::uint64_t block = run.physical + i;
      Buffer raw = fs.read_block(block);
      const std::size_t tail_at = raw.size() - sizeof(OrphanTail);
      auto tail = parse_as<OrphanTail>(raw, tail_at);
      if (tail.magic.value() != orphan_block_magic)
        damaged("the orphan file is damaged", "ext", start_the_guest_first);
      Le64 number;
      number = block;
      const auto checksum = [&] {
        return crc32c_raw(crc32c_raw(seed, bytes_of(number)), ConstByteSpan(raw).first(tail_at));
      };
      if (g.metadata_csum() && checksum() != tail.checksum.value())
        damaged("a checksum of the orphan file is wrong", "ext", start_the_guest_first);
      bool changed = false;
      for (std::size_t at = 0; at + 4 <= tail_at; at += 4) {
        const std::uint32_t orphan = parse_as<Le32>(raw, at).value();
        if (orphan == 0) continue;
        found.push_back(orphan);
        Le32 none;
        none = 0;
        put_at(raw, at, none);
        changed = true;
      }
      if (!changed) continue;
      if (g.metadata_csum()) {
        tail.checksum = checksum();
        put_at(raw, tail_at, tail);
      }
      fs.store().write(g.offset(block), raw);
    }
    return true;
  };
  visit_blocks(fs, file, visitor);
  return found;
}

}  // namespace

void cut_blocks(Filesystem& fs, Allocation& allocation, InodeRecord& inode, std::uint64_t first) {
  Cutter(fs, allocation, inode, first).run();
}

void remove_inode(Filesystem& fs, Allocation& allocation, std::uint32_t ino) {
  InodeRecord inode = fs.read_inode(ino);
  refuse_attribute_inodes(fs, inode);
  if (has_blocks(inode)) cut_blocks(fs, allocation, inode, 0);
  release_attribute_block(fs, allocation, inode);
  allocation.release_inode(ino, inode.type() == mode_dir);
  inode.fields.file_acl_lo = 0;
  inode.fields.file_acl_hi = 0;
  inode.fields.size_lo = 0;
  inode.fields.size_hi = 0;
  inode.fields.blocks_lo = 0;
  inode.fields.blocks_hi = 0;
  // When it was deleted: no clock, so that the same change gives the same bytes. A guest without a
  // clock has small times, and those would be numbers of inodes that are still on the list.
  inode.fields.dtime =
      std::max(static_cast<std::uint32_t>(fs.geometry().inodes()) + 1, inode.fields.ctime.value());
  fs.write_inode(inode);
}

OrphanCounts clean_up_orphans(Filesystem& fs) {
  OrphanCounts counts;
  const Geometry& g = fs.geometry();
  std::set<std::uint32_t> seen;
  std::vector<std::uint32_t> orphans;
  for (std::uint32_t ino = fs.super().last_orphan.value(); ino != 0;) {
    if (ino > g.inodes() || ino < g.first_ino || !seen.insert(ino).second)
      damaged(fmt::format("the list of orphaned inodes leads to {}", ino), "ext",
              start_the_guest_first);
    orphans.push_back(ino);
    ino = fs.read_inode(ino).fields.dtime.value();
  }
  if (g.has_compat(compat::orphan_file) && g.has_ro_compat(ro_compat::orphan_present)) {
    for (const std::uint32_t ino : clear_orphan_file(fs)) {
      if (ino > g.inodes() || ino < g.first_ino || !seen.insert(ino).second)
        damaged(fmt::format("the orphan file names inode {}", ino), "ext", start_the_guest_first);
      orphans.push_back(ino);
    }
  }
  Allocation allocation(fs);
  for (const std::uint32_t ino : orphans) clean_up_one(fs, allocation, ino, counts);
  fs.edit_super().last_orphan = 0;
  fs.edit_super().feature_ro_compat =
      fs.super().feature_ro_compat.value() & ~ro_compat::orphan_present;
  allocation.finish();
  return counts;
}

}  // namespace jh::ext

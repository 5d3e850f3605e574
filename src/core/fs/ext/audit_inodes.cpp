// Every inode: its own fields, and which blocks it holds.
#include <algorithm>

#include "core/base/checksum.h"
#include "core/fs/ext/audit_state.h"
#include "core/fs/ext/block_map.h"
#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

class InodeAudit {
 public:
  InodeAudit(AuditState& state, const InodeRecord& inode)
      : state_(state), fs_(state.fs), g_(state.fs.geometry()), inode_(inode) {}

  void run() {
    if (!fs_.inode_checksum_ok(inode_)) state_.find(where(), "its checksum is wrong");
    check_fields();
    walk_blocks();
    check_attributes();
    check_size();
    if (inode_.has_flag(flag_inline_data)) check_inline();
    if (inode_.type() == mode_link && !inode_.has_flag(flag_encrypt)) check_link();
  }

 private:
  std::string where() const { return fmt::format("inode {}", inode_.ino); }

  void check_fields() {
    if (inode_.fields.obsolete_faddr.value() != 0)
      state_.find(where(), "a field that is always zero (fragment address) is not");
    if (g_.inode_size > old_inode_size) {
      const std::uint32_t extra = inode_.fields.extra_isize.value();
      if (extra != 0 && (extra % 4 != 0 || extra < 4 || old_inode_size + extra > g_.inode_size))
        state_.find(where(), "its extra size {} is not possible", extra);
    }
    if (inode_.has_flag(flag_inline_data) && !g_.has_incompat(incompat::inline_data))
      state_.find(where(), "it has inline data, which this filesystem does not know");
    if (inode_.has_flag(flag_extents) && !g_.has_incompat(incompat::extents))
      state_.find(where(), "it has extents, which this filesystem does not know");
    if (inode_.has_flag(flag_casefold) &&
        (!g_.has_incompat(incompat::casefold) || inode_.type() != mode_dir))
      state_.find(where(), "it ignores case in names, which cannot be here");
    if (inode_.has_flag(flag_index) && inode_.type() != mode_dir)
      state_.find(where(), "it has an index of names, but is no directory");
    else if (inode_.has_flag(flag_index) && !g_.has_compat(compat::dir_index))
      state_.find(where(), "it has an index of names, which this filesystem does not know");
    if (inode_.has_flag(flag_imagic) && !g_.has_compat(compat::imagic_inodes))
      state_.find(where(),
                  "it is a server's own kind of inode, which this filesystem does not know");
    if (inode_.ino >= g_.first_ino || inode_.ino == root_ino) {
      if (inode_.fields.dtime.value() != 0)
        state_.find(where(), "it is in use but has a deletion time");
      switch (inode_.type()) {
        case mode_fifo:
        case mode_char:
        case mode_dir:
        case mode_block:
        case mode_file:
        case mode_link:
        case mode_socket:
          break;
        default:
          state_.find(where(), "its mode 0{:o} names no type", inode_.fields.mode.value());
      }
    }
  }

  void check_inline() {
    bool complete = false;
    const Buffer data = inline_data(inode_, &complete);
    if (!complete) {
      state_.find(where(), "its inline data lacks the attribute that belongs to it");
    } else if (inode_.type() == mode_dir || inode_.type() == mode_link
                   ? inode_.size() != data.size()
                   : inode_.size() > data.size()) {
      state_.find(where(), "it is {} bytes long, but its inline data has {}", inode_.size(),
                  data.size());
    }
  }

  // As long as the inode says, with a zero behind it.
  void check_link() {
    const std::string text = read_link(fs_, inode_);
    if (text.size() != inode_.size() || text.empty() || text.find('\0') != std::string::npos ||
        goes_on(text.size()))
      state_.find(where(), "its link target is damaged");
  }

  bool goes_on(std::size_t size) {
    if (inode_.has_flag(flag_inline_data)) return false;
    if (!has_blocks(inode_))
      return size >= sizeof(Inode::block) || inode_.raw[offsetof(Inode, block) + size] != 0;
    const std::uint64_t block = find_block(fs_, inode_, 0);
    return size >= g_.block_size || !g_.is_block(block) || fs_.read_block(block)[size] != 0;
  }

  void claim(std::uint64_t block, std::uint64_t count) {
    if (!g_.is_block(block) || count > g_.blocks - block) {
      state_.find(where(), "block {} lies outside of the filesystem", block);
      return;
    }
    const std::uint64_t first = state_.cluster_of(block);
    const std::uint64_t last = state_.cluster_of(block + count - 1);
    for (std::uint64_t cluster = first; cluster <= last; ++cluster) {
      if (!state_.claimed.test(cluster)) {
        state_.claimed.set(cluster);
        ++clusters_;
      } else if (std::find(edges_.begin(), edges_.end(), cluster) == edges_.end()) {
        state_.find(where(), "block {} belongs to something else as well",
                    g_.first_data_block + cluster * g_.cluster_ratio);
        return;
      }
    }
    // Two extents of one file may share a cluster; only the ends of a run can be shared so.
    if (g_.cluster_ratio != 1) edges_ = {first, last};
  }

  // The blocks of a cluster of the file are one cluster of the disk, each in its place.
  void check_cluster(const MappedExtent& run) {
    if (g_.cluster_ratio == 1) return;
    const std::uint64_t place = (run.physical - g_.first_data_block) % g_.cluster_ratio;
    const bool goes_on = run.logical % g_.cluster_ratio != 0 &&
                         run.logical / g_.cluster_ratio == last_logical_ / g_.cluster_ratio &&
                         last_physical_ != 0;
    if (run.logical % g_.cluster_ratio != place ||
        (goes_on && state_.cluster_of(run.physical) != state_.cluster_of(last_physical_)))
      state_.find(where(), "block {} of it is not where its cluster has it", run.logical);
    last_logical_ = run.logical + run.count - 1;
    last_physical_ = run.physical + run.count - 1;
  }

  void walk_blocks() {
    if (inode_.ino == resize_ino && g_.has_compat(compat::resize_inode)) {
      walk_resize_inode();
      return;
    }
    BlockVisitor visitor;
    visitor.data = [&](const MappedExtent& run) {
      claim(run.physical, run.count);
      next_ = run.logical + run.count;
      if (!run.unwritten) next_written_ = next_;
      check_cluster(run);
      if (inode_.type() == mode_dir) {
        if (run.logical != directory_next_ || run.unwritten) directory_holes_ = true;
        directory_next_ = run.logical + run.count;
      }
      return true;
    };
    visitor.tree = [&](std::uint64_t block) {
      const std::uint64_t before = state_.findings.count();
      claim(block, 1);
      return state_.findings.count() == before;  // a block claimed twice may be a loop
    };
    visitor.defect = [&](const std::string& what) { state_.find("block lists", "{}", what); };
    visit_blocks(fs_, inode_, visitor);
  }

  // Its blocks are the reserved descriptors, which are claimed already; their lists are compared.
  void walk_resize_inode() {
    const std::uint32_t root = inode_.fields.block[13].value();
    if (!g_.is_block(root)) {
      state_.find(where(), "it has no block list");
      return;
    }
    claim(root, 1);
    const std::uint64_t backups = g_.backup_groups().size();
    clusters_ = 1 + g_.reserved_gdt * (1 + backups);
    if (g_.reserved_gdt == 0 || backups == 0) return;
    // Its size covers the last copy that its lists name.
    const std::uint64_t per_list = g_.block_size / 4;
    const std::uint64_t last_list =
        std::min<std::uint64_t>(g_.desc_blocks % per_list + g_.reserved_gdt, per_list) - 1;
    const std::uint64_t last = 12 + per_list + last_list * per_list + backups - 1;
    if (inode_.size() < last * g_.block_size)
      state_.find(where(), "it is {} bytes long, and its lists reach further", inode_.size());
  }

  void check_attributes() {
    const std::uint64_t block = inode_.attribute_block();
    if (block != 0) check_attribute_block(block);
    const std::size_t start = old_inode_size + inode_.fields.extra_isize.value();
    if (g_.inode_size > old_inode_size && start + 4 <= inode_.raw.size() &&
        inode_.fields.extra_isize.value() != 0 &&
        parse_as<Le32>(inode_.raw, start).value() == xattr_magic) {
      const ConstByteSpan area = ConstByteSpan(inode_.raw).subspan(start + 4);
      check_entries(area, 0, false);
    }
    if (inode_.has_flag(flag_encrypt) && !has_encryption_)
      state_.find(where(), "it is encrypted, but lacks the attribute that says how");
  }

  void check_attribute_block(std::uint64_t block) {
    if (!g_.is_block(block)) {
      state_.find(where(), "its attribute block {} lies outside of the filesystem", block);
      return;
    }
    ++clusters_;
    auto [known, fresh] = state_.xattr_blocks.try_emplace(block);
    ++known->second.seen_refs;
    if (!fresh) {
      clusters_ += known->second.value_clusters;
      has_encryption_ = has_encryption_ || known->second.has_encryption;
      return;
    }
    if (state_.claimed.test(state_.cluster_of(block)))
      state_.find(where(), "its attribute block {} belongs to something else as well", block);
    state_.claimed.set(state_.cluster_of(block));
    const Buffer raw = fs_.read_block(block);
    const auto header = parse_as<XattrHeader>(raw, 0);
    known->second.claimed_refs = header.refcount.value();
    if (header.magic.value() != xattr_magic || header.blocks.value() != 1) {
      state_.find(where(), "its attribute block {} has a wrong header", block);
      return;
    }
    if (g_.metadata_csum() && fs_.checksums().xattr_block(block, raw) != header.checksum.value())
      state_.find(where(), "the checksum of its attribute block {} is wrong", block);
    const std::uint64_t before = clusters_;
    check_entries(raw, sizeof(XattrHeader), true);
    known->second.value_clusters = clusters_ - before;
    known->second.has_encryption = has_encryption_;
  }

  // Offsets of values count from the start of `area`.
  void check_entries(ConstByteSpan area, std::size_t at, bool in_block) {
    while (true) {
      if (at + 4 > area.size()) {
        state_.find(where(), "its attributes have no end");
        return;
      }
      if (parse_as<Le32>(area, at).value() == 0) return;
      if (at + sizeof(XattrEntry) > area.size()) {
        state_.find(where(), "its attributes have no end");
        return;
      }
      const auto entry = parse_as<XattrEntry>(area, at);
      const std::size_t size = entry.value_size.value();
      const std::size_t offset = entry.value_offs.value();
      if (entry.name_index == xattr_index_encryption) has_encryption_ = true;
      if (entry.value_inum.value() != 0) {
        if (!g_.has_incompat(incompat::ea_inode) || entry.value_inum.value() > g_.inodes())
          state_.find(where(), "an attribute's value is in inode {}, which cannot be",
                      entry.value_inum.value());
        else
          ++state_.value_inodes[entry.value_inum.value()];
        // What a value takes in its own inode is charged to everyone who has it.
        clusters_ += ceil_div(size, std::uint64_t{g_.block_size} * g_.cluster_ratio);
      } else if (size != 0 && (offset > area.size() || size > area.size() - offset)) {
        state_.find(where(), "an attribute's value lies outside of its place");
      } else if ((in_block || entry.hash.value() != 0) && !attribute_hash_holds(area, at)) {
        state_.find(where(), "an attribute's hash does not fit it");
      }
      at += sizeof(XattrEntry) + (entry.name_len + 3U) / 4 * 4;
    }
  }

  std::uint64_t most_file_blocks() const {
    if (inode_.has_flag(flag_extents)) return 1ULL << 32;
    const std::uint64_t per_block = g_.block_size / 4;
    return std::min<std::uint64_t>(
        12 + per_block + per_block * per_block + per_block * per_block * per_block, 1ULL << 32);
  }

  void check_size() {
    const std::uint64_t bs = g_.block_size;
    const std::uint64_t needed = ceil_div(inode_.size(), bs);
    if (inode_.type() == mode_dir && !inode_.has_flag(flag_inline_data)) {
      if (directory_holes_) state_.find(where(), "its directory has holes");
      if (inode_.size() % bs != 0 || needed != directory_next_)
        state_.find(where(), "its directory is {} bytes long, but has {} blocks", inode_.size(),
                    directory_next_);
    } else if (has_blocks(inode_) && inode_.type() == mode_file && next_written_ > needed &&
               inode_.ino >= g_.first_ino) {
      state_.find(where(), "it has blocks behind its end at {} bytes", inode_.size());
    }
    if (has_blocks(inode_) && needed > most_file_blocks())
      state_.find(where(), "{} bytes are more than a file can have", inode_.size());
    // Without huge files the upper half is zero.
    const std::uint64_t stored =
        inode_.fields.blocks_lo.value() | std::uint64_t{inode_.fields.blocks_hi.value()} << 32;
    const bool in_blocks =
        g_.has_ro_compat(ro_compat::huge_file) && inode_.has_flag(flag_huge_file);
    const std::uint64_t seen = clusters_ * g_.cluster_ratio * (in_blocks ? 1 : g_.block_size / 512);
    if (stored != seen)
      state_.find(where(), "it says it has {} sectors, but holds {}", stored, seen);
  }

  AuditState& state_;
  Filesystem& fs_;
  const Geometry& g_;
  const InodeRecord& inode_;
  std::uint64_t clusters_ = 0;
  std::vector<std::uint64_t> edges_;
  std::uint64_t next_ = 0;
  std::uint64_t next_written_ = 0;
  std::uint64_t directory_next_ = 0;
  bool directory_holes_ = false;
  std::uint64_t last_logical_ = 0;
  std::uint64_t last_physical_ = 0;
  bool has_encryption_ = false;
};

bool in_use(const Geometry& g, const InodeRecord& inode) {
  // Reserved inodes are in use when they hold something; the list of bad blocks has no mode.
  if (inode.ino < g.first_ino && inode.ino != root_ino)
    return inode.fields.mode.value() != 0 || inode.fields.links_count.value() != 0 ||
           inode.fields.blocks_lo.value() != 0 ||
           (inode.ino == bad_blocks_ino &&
            std::any_of(inode.fields.block.begin(), inode.fields.block.end(),
                        [](const Le32& each) { return each.value() != 0; }));
  return inode.fields.links_count.value() != 0;
}

void keep(AuditState& state, const InodeRecord& inode, std::vector<std::uint16_t>& links,
          std::vector<std::uint8_t>& kinds, std::uint32_t group) {
  state.used.set(inode.ino);
  links.push_back(inode.fields.links_count.value());
  kinds.push_back(static_cast<std::uint8_t>(inode.type() >> 8));
  if (inode.type() != mode_dir) return;
  state.directories.set(inode.ino);
  ++state.group_dirs[group];
}

}  // namespace

void audit_inodes(AuditState& state) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  state.group_dirs.assign(g.group_count, 0);
  constexpr std::uint64_t piece_bytes = 1U << 18;
  const auto per_piece =
      static_cast<std::uint32_t>(std::max<std::uint64_t>(1, piece_bytes / g.inode_size));
  Buffer piece;
  for (std::uint32_t number = 0; number < g.group_count; ++number) {
    state.progress.advance(std::uint64_t{number} * g.itable_blocks * g.block_size);
    const Group group = fs.group(number);
    if (!g.is_block(group.inode_table) || g.itable_blocks > g.blocks - group.inode_table) continue;
    if (group.inode_uninit()) continue;
    const std::uint32_t count =
        g.inodes_per_group - std::min(group.itable_unused, g.inodes_per_group);
    for (std::uint32_t first = 0; first < count; first += per_piece) {
      const std::uint32_t here = std::min(per_piece, count - first);
      const std::uint64_t at = g.offset(group.inode_table) + std::uint64_t{first} * g.inode_size;
      const std::size_t length = std::size_t{here} * g.inode_size;
      // Tables that nobody has written yet are holes in the image: no inodes, and nothing to read.
      const Range run = fs.store().map(at, length);
      if (run.zero && run.length == length) continue;
      piece = read_buffer(fs.store(), at, length);
      for (std::uint32_t i = 0; i < here; ++i) {
        const ConstByteSpan raw =
            ConstByteSpan(piece).subspan(std::size_t{i} * g.inode_size, g.inode_size);
        if (all_zero(raw)) continue;
        InodeRecord inode;
        inode.ino = number * g.inodes_per_group + first + i + 1;
        inode.raw.assign(raw.begin(), raw.end());
        std::memcpy(&inode.fields, raw.data(), std::min(raw.size(), sizeof(Inode)));
        if (inode.ino < g.first_ino && !fs.inode_checksum_ok(inode))
          state.find(fmt::format("inode {}", inode.ino), "its checksum is wrong");
        if (!in_use(g, inode)) continue;
        keep(state, inode, state.links, state.kinds, number);
        try {
          InodeAudit(state, inode).run();
        } catch (const Error& error) {
          if (error.status() != Status::damaged) throw;
          state.find(fmt::format("inode {}", inode.ino), "{}", error.what());
        }
      }
    }
  }
  state.used.index();
  for (const auto& [block, shared] : state.xattr_blocks)
    if (shared.claimed_refs != shared.seen_refs)
      state.find(fmt::format("attribute block {}", block),
                 "{} inodes share it, but its header says {}", shared.seen_refs,
                 shared.claimed_refs);
}

}  // namespace jh::ext

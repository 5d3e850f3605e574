#include "core/fs/ext/block_map.h"

#include <fmt/format.h>

#include <optional>

#include "core/base/checksum.h"

namespace jh::ext {
namespace {

// Where the checksum stands: behind the places for entries. Nothing: not within the block.
std::optional<std::size_t> extent_tail(ConstByteSpan block) {
  const auto header = parse_as<ExtentHeader>(block, 0);
  const std::size_t tail = sizeof(ExtentHeader) + std::size_t{header.max.value()} * sizeof(Extent);
  if (tail + sizeof(Le32) > block.size()) return std::nullopt;
  return tail;
}

std::uint32_t extent_checksum(const Filesystem& fs, const InodeRecord& inode,
                              ConstByteSpan summed) {
  return crc32c_raw(fs.seed_of(inode), summed);
}

class ExtentWalk {
 public:
  ExtentWalk(Filesystem& fs, const InodeRecord& inode, const BlockVisitor& visitor)
      : fs_(fs), inode_(inode), visitor_(visitor), budget_(fs.geometry().blocks) {}

  bool run() {
    const ConstByteSpan root =
        ConstByteSpan(inode_.raw).subspan(offsetof(Inode, block), sizeof(Inode::block));
    return node(root, -1, 0, 1ULL << 32);
  }

 private:
  void defect(const std::string& what) {
    visitor_.defect(fmt::format("inode {}: {}", inode_.ino, what));
  }

  // `depth` -1: whatever the root says. Entries must lie in [low, high) of the file.
  bool node(ConstByteSpan raw, int depth, std::uint64_t low, std::uint64_t high) {
    const auto header = parse_as<ExtentHeader>(raw, 0);
    const std::size_t room = (raw.size() - sizeof(ExtentHeader)) / sizeof(Extent);
    // Two places may be spared at the end, for the checksum.
    if (header.magic.value() != extent_magic || header.max.value() > room ||
        header.max.value() + 2U < room || header.entries.value() > header.max.value() ||
        header.depth.value() > max_extent_depth || (depth >= 0 && header.depth.value() != depth)) {
      defect(depth < 0 && header.entries.value() == 0
                 ? "its extent tree, which is empty, has a wrong header"
                 : "a block of its extent tree has a wrong header");
      return true;
    }
    std::uint64_t next = low;
    for (std::uint32_t i = 0; i < header.entries.value(); ++i) {
      const std::size_t at = sizeof(ExtentHeader) + i * sizeof(Extent);
      const bool go_on = header.depth.value() == 0 ? leaf(parse_as<Extent>(raw, at), next, high)
                                                   : index(raw, at, i, header, next, high);
      if (!go_on) return false;
    }
    return true;
  }

  bool leaf(const Extent& extent, std::uint64_t& next, std::uint64_t high) {
    MappedExtent run;
    run.logical = extent.block.value();
    run.unwritten = extent.len.value() > max_written_extent;
    run.count = run.unwritten ? extent.len.value() - max_written_extent : extent.len.value();
    run.physical = extent.start_lo.value() | std::uint64_t{extent.start_hi.value()} << 32;
    const Geometry& g = fs_.geometry();
    if (run.count == 0 || run.logical < next || run.logical + run.count > high) {
      defect(fmt::format("the extent of logical block {} is out of order", run.logical));
      return true;
    }
    if (!g.is_block(run.physical) || run.count > g.blocks - run.physical) {
      defect(fmt::format("the extent of logical block {} points outside of the filesystem",
                         run.logical));
      return true;
    }
    next = run.logical + run.count;
    return visitor_.data(run);
  }

  bool index(ConstByteSpan raw, std::size_t at, std::uint32_t i, const ExtentHeader& header,
             std::uint64_t& next, std::uint64_t high) {
    const auto entry = parse_as<ExtentIndex>(raw, at);
    const std::uint64_t low = entry.block.value();
    if (low < next || low >= high) {
      defect(fmt::format("the extent index of logical block {} is out of order", low));
      return true;
    }
    std::uint64_t end = high;
    if (i + 1U < header.entries.value())
      end = std::min<std::uint64_t>(
          high, parse_as<ExtentIndex>(raw, at + sizeof(ExtentIndex)).block.value());
    const std::uint64_t child = entry.leaf_lo.value() | std::uint64_t{entry.leaf_hi.value()} << 32;
    next = low + 1;
    if (!fs_.geometry().is_block(child)) {
      defect(fmt::format("the extent index of logical block {} points outside of the filesystem",
                         low));
      return true;
    }
    if (budget_-- == 0) {
      defect("its extent tree has no end");
      return false;
    }
    if (!visitor_.tree(child)) return true;
    const Buffer block = fs_.read_block(child);
    check_tail(block, child);
    return node(block, header.depth.value() - 1, low, end);
  }

  void check_tail(ConstByteSpan block, std::uint64_t number) {
    if (!fs_.geometry().metadata_csum()) return;
    const auto tail = extent_tail(block);
    if (!tail) return;  // the header check names this
    if (parse_as<Le32>(block, *tail).value() != extent_checksum(fs_, inode_, block.first(*tail)))
      defect(fmt::format("the checksum of extent block {} is wrong", number));
  }

  Filesystem& fs_;
  const InodeRecord& inode_;
  const BlockVisitor& visitor_;
  std::uint64_t budget_;
};

class IndirectWalk {
 public:
  IndirectWalk(Filesystem& fs, const InodeRecord& inode, const BlockVisitor& visitor)
      : fs_(fs), inode_(inode), visitor_(visitor), budget_(fs.geometry().blocks) {}

  bool run() {
    for (std::size_t i = 0; i < 12; ++i)
      if (!entry(inode_.fields.block[i].value(), 0)) return false;
    for (std::uint32_t level = 1; level <= 3; ++level)
      if (!entry(inode_.fields.block[11 + level].value(), level)) return false;
    return flush();
  }

 private:
  std::uint64_t span(std::uint32_t level) const {
    std::uint64_t blocks = 1;
    for (std::uint32_t i = 0; i < level; ++i) blocks *= fs_.geometry().block_size / 4;
    return blocks;
  }

  bool entry(std::uint32_t block, std::uint32_t level) {
    if (block == 0) {
      next_ += span(level);
      return true;
    }
    if (!fs_.geometry().is_block(block)) {
      visitor_.defect(fmt::format("inode {}: logical block {} points outside of the filesystem",
                                  inode_.ino, next_));
      next_ += span(level);
      return true;
    }
    if (level == 0) return data(block);
    if (budget_-- == 0) {
      visitor_.defect(fmt::format("inode {}: its indirect blocks have no end", inode_.ino));
      return false;
    }
    if (!flush()) return false;
    if (!visitor_.tree(block)) {
      next_ += span(level);
      return true;
    }
    const Buffer raw = fs_.read_block(block);
    for (std::size_t at = 0; at < raw.size(); at += 4)
      if (!entry(parse_as<Le32>(raw, at).value(), level - 1)) return false;
    return true;
  }

  // Single blocks are gathered into runs, so that callers see what an extent would show them.
  bool data(std::uint32_t block) {
    const std::uint64_t logical = next_++;
    if (run_.count != 0 && run_.logical + run_.count == logical &&
        run_.physical + run_.count == block) {
      ++run_.count;
      return true;
    }
    if (!flush()) return false;
    run_ = {logical, block, 1, false};
    return true;
  }

  bool flush() {
    if (run_.count == 0) return true;
    const MappedExtent done = run_;
    run_ = {};
    return visitor_.data(done);
  }

  Filesystem& fs_;
  const InodeRecord& inode_;
  const BlockVisitor& visitor_;
  std::uint64_t budget_;
  std::uint64_t next_ = 0;  // logical block
  MappedExtent run_;
};

}  // namespace

void set_extent_sum(const Filesystem& fs, const InodeRecord& inode, ByteSpan block) {
  if (!fs.geometry().metadata_csum()) return;
  const auto tail = extent_tail(block);
  if (!tail) return;
  Le32 checksum;
  checksum = extent_checksum(fs, inode, block.first(*tail));
  put_at(block, *tail, checksum);
}

bool has_blocks(const InodeRecord& inode) {
  if (inode.has_flag(flag_inline_data)) return false;
  switch (inode.type()) {
    case mode_dir:
    case mode_file:
      return true;
    case mode_link:
      // A short link keeps its text in the place of the block numbers.
      return inode.has_flag(flag_extents) || inode.size() >= sizeof(Inode::block);
    default:
      return inode.ino == resize_ino || inode.ino == bad_blocks_ino;
  }
}

bool visit_blocks(Filesystem& fs, const InodeRecord& inode, const BlockVisitor& visitor) {
  if (!has_blocks(inode)) return true;
  if (inode.has_flag(flag_extents)) return ExtentWalk(fs, inode, visitor).run();
  return IndirectWalk(fs, inode, visitor).run();
}

std::uint64_t find_block(Filesystem& fs, const InodeRecord& inode, std::uint64_t logical) {
  std::uint64_t found = 0;
  BlockVisitor visitor;
  visitor.data = [&](const MappedExtent& run) {
    if (run.logical > logical) return false;
    if (logical < run.logical + run.count) {
      if (!run.unwritten) found = run.physical + (logical - run.logical);
      return false;
    }
    return true;
  };
  visit_blocks(fs, inode, visitor);
  return found;
}

}  // namespace jh::ext

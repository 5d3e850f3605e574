// The quota files of format 2 ("Quota format vfsv1" of the kernel's filesystem documentation): a
// tree of blocks of 1 KiB over the bytes of the owner's number, and records in its leaves.
#include "core/fs/ext/quota.h"

#include <fmt/format.h>

#include "core/fs/ext/block_map.h"

namespace jh::ext {
namespace {

constexpr std::uint64_t quota_block = 1024;
constexpr std::uint64_t root_block = 1;
constexpr std::uint32_t depth = 4;  // one byte of the number at each level
constexpr std::size_t leaf_header = 16;

struct Record {
  Le32 id;
  Le32 padding;
  Le64 inodes_hard;
  Le64 inodes_soft;
  Le64 inodes;
  Le64 blocks_hard;
  Le64 blocks_soft;
  Le64 bytes;
  Le64 blocks_until;
  Le64 inodes_until;
};
static_assert(sizeof(Record) == 72 && offsetof(Record, bytes) == 48);

class QuotaFile {
 public:
  QuotaFile(Filesystem& fs, std::uint32_t ino) : fs_(fs), inode_(fs.read_inode(ino)) {}

  void change(std::uint32_t id, const UsageChange& by) {
    std::uint64_t block = root_block;
    for (std::uint32_t level = 0; level < depth; ++level) {
      const std::uint32_t index = id >> (8 * (depth - 1 - level)) & 0xFF;
      block = read_as<Le32>(fs_.store(), place(block) + index * 4).value();
      if (block == 0) return;
    }
    const std::uint64_t at = place(block);
    for (std::size_t i = leaf_header; i + sizeof(Record) <= quota_block; i += sizeof(Record)) {
      auto record = read_as<Record>(fs_.store(), at + i);
      // A place of zeros is free, and would read as that of the owner 0.
      if (record.id.value() != id || all_zero(bytes_of(record))) continue;
      record.bytes = changed(record.bytes.value(), by.bytes);
      record.inodes = changed(record.inodes.value(), by.inodes);
      fs_.store().write(at + i, bytes_of(record));
      return;
    }
  }

 private:
  static std::uint64_t changed(std::uint64_t count, std::int64_t by) {
    const std::int64_t now = static_cast<std::int64_t>(count) + by;
    return static_cast<std::uint64_t>(std::max<std::int64_t>(now, 0));
  }

  // Where a block of the quota file lies, in bytes.
  std::uint64_t place(std::uint64_t block) {
    const std::uint64_t bs = fs_.geometry().block_size;
    const std::uint64_t offset = checked_mul(block, quota_block);
    const std::uint64_t physical = find_block(fs_, inode_, offset / bs);
    if (offset + quota_block > inode_.size() || physical == 0)
      damaged(fmt::format("the quota file (inode {}) is damaged", inode_.ino), "ext filesystem",
              "check the filesystem inside the guest first");
    return fs_.geometry().offset(physical) + offset % bs;
  }

  Filesystem& fs_;
  InodeRecord inode_;
};

}  // namespace

UsageChange owner_of(const Geometry& g, const InodeRecord& inode) {
  const Inode& f = inode.fields;
  const bool has_project = g.has_ro_compat(ro_compat::project) &&
                           inode.raw.size() >= sizeof(Inode) &&
                           old_inode_size + f.extra_isize.value() >= sizeof(Inode);
  return {f.uid_lo.value() | std::uint32_t{f.uid_hi.value()} << 16,
          f.gid_lo.value() | std::uint32_t{f.gid_hi.value()} << 16,
          has_project ? f.projid.value() : 0, 0, 0};
}

void change_usage(Filesystem& fs, const UsageChange& change) {
  const Superblock& super = fs.super();
  const auto one = [&](std::uint32_t ino, std::uint32_t id) {
    if (ino != 0) QuotaFile(fs, ino).change(id, change);
  };
  one(super.usr_quota_inum.value(), change.user);
  one(super.grp_quota_inum.value(), change.group);
  one(super.prj_quota_inum.value(), change.project);
}

}  // namespace jh::ext

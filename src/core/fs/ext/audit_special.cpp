// The inodes that serve the filesystem itself: reserved descriptors, journal, mount protection.
#include "core/fs/ext/audit_state.h"
#include "core/fs/ext/journal.h"

namespace jh::ext {
namespace {

void audit_mmp(AuditState& state) {
  const std::uint64_t block = state.fs.super().mmp_block.value();
  if (!state.fs.geometry().is_block(block)) {
    state.find("multiple-mount protection", "its block {} lies outside of the filesystem", block);
    return;
  }
  if (state.claimed.size() != 0) state.claimed.set(state.cluster_of(block));
  const auto mmp = parse_as<MmpBlock>(state.fs.read_block(block), 0);
  if (mmp.magic.value() != mmp_magic)
    state.find("multiple-mount protection", "block {} has no signature", block);
  else if (state.fs.geometry().metadata_csum() &&
           state.fs.checksums().mmp(mmp) != mmp.checksum.value())
    state.find("multiple-mount protection", "the checksum of block {} is wrong", block);
}

// Entries of a block list that must be there, in order; everything behind them must be zero.
bool lists_exactly(ConstByteSpan block, const std::vector<std::uint64_t>& expected) {
  for (std::size_t i = 0; i * 4 < block.size(); ++i) {
    const std::uint64_t wanted = i < expected.size() ? expected[i] : 0;
    if (parse_as<Le32>(block, i * 4).value() != wanted) return false;
  }
  return true;
}

void audit_resize_inode(AuditState& state, AuditScope scope) {
  Filesystem& fs = state.fs;
  const Geometry& g = fs.geometry();
  const InodeRecord inode = fs.read_inode(resize_ino);
  const std::uint32_t root = inode.fields.block[13].value();
  if (!g.is_block(root)) {
    state.find("inode 7", "the resize inode has no block list");
    return;
  }
  if (inode.type() != mode_file || inode.fields.links_count.value() == 0)
    state.find("inode 7", "the resize inode is no file in use");
  for (std::size_t i = 0; i < std::size(inode.fields.block); ++i)
    if (i != 13 && inode.fields.block[i].value() != 0)
      state.find("inode 7", "the resize inode has a block list where it needs none");
  const std::vector<std::uint32_t> backups = g.backup_groups();
  std::vector<std::uint64_t> list(g.block_size / 4);
  // Behind its copies a list is nothing but zeros: a growth, which writes all of it anew, need not
  // have seen them.
  constexpr std::uint64_t sector = 512;
  const std::uint64_t length =
      scope > AuditScope::growth
          ? g.block_size
          : std::min<std::uint64_t>(g.block_size, round_up((backups.size() + 1) * 4, sector));
  for (std::uint32_t i = 0; i < g.reserved_gdt; ++i) {
    const std::uint64_t reserved = g.gdt_start(0) + g.desc_blocks + i;
    list[(g.desc_blocks + i) % list.size()] = reserved;
    std::vector<std::uint64_t> copies;
    for (const std::uint32_t group : backups)
      copies.push_back(reserved + std::uint64_t{group} * g.blocks_per_group);
    fs.check_run(reserved, 1);
    if (!lists_exactly(read_buffer(fs.store(), g.offset(reserved), length), copies)) {
      state.find("inode 7", "reserved block {} does not list its copies", reserved);
      break;
    }
  }
  if (!lists_exactly(fs.read_block(root), list))
    state.find("inode 7", "the resize inode does not list the reserved descriptor blocks");
}

void audit_journal(AuditState& state) {
  try {
    Journal journal(state.fs);
  } catch (const Error& error) {
    state.find("journal", "{}", error.what());
  }
}

// It lists blocks that the disk cannot keep, and is no file of anybody.
void audit_bad_blocks_inode(AuditState& state) {
  const Inode inode = state.fs.read_inode(bad_blocks_ino).fields;
  if (inode.mode.value() != 0 || inode.uid_lo.value() != 0 || inode.gid_lo.value() != 0 ||
      inode.links_count.value() != 0)
    state.find("inode 1", "the list of bad blocks says that it is a file of somebody");
}

}  // namespace

void audit_special_inodes(AuditState& state, AuditScope scope) {
  const Geometry& g = state.fs.geometry();
  audit_bad_blocks_inode(state);
  if (g.has_compat(compat::resize_inode)) audit_resize_inode(state, scope);
  if (g.has_incompat(incompat::mmp)) audit_mmp(state);
  const bool names_journal = state.fs.super().journal_inum.value() != 0;
  if (names_journal && !g.has_compat(compat::has_journal))
    state.find("superblock", "it names a journal, but says that there is none");
  else if (names_journal)
    audit_journal(state);
}

}  // namespace jh::ext

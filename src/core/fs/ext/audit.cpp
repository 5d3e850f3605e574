#include "core/fs/ext/audit.h"

#include <algorithm>

#include "core/fs/ext/audit_state.h"

namespace jh::ext {
namespace {

// A run of metadata, and whose it is.
struct Owned {
  BlockRange run;
  std::uint32_t group = 0;
  const char* what = "";
};

// Places that the descriptors name must lie where the format allows them.
void check_group_places(AuditState& state, std::uint32_t number, std::vector<Owned>& owned) {
  const Geometry& g = state.fs.geometry();
  const Group group = state.fs.group(number);
  const auto where = [number] { return fmt::format("group {}", number); };
  if (!state.fs.descriptor_checksum_ok(number))
    state.find(where(), "the checksum of its descriptor is wrong");
  const std::uint64_t first = g.group_first(number);
  const std::uint64_t end = first + g.group_blocks(number);
  const auto check = [&](const char* what, std::uint64_t block, std::uint64_t count) {
    const bool inside = g.is_block(block) && count <= g.blocks - block;
    const bool at_home = block >= first && block + count <= end;
    if (inside && (at_home || g.has_incompat(incompat::flex_bg))) {
      owned.push_back({{block, count}, number, what});
      return;
    }
    state.find(where(), "its {} at block {} lies outside of {}", what, block,
               inside ? "the group" : "the filesystem");
  };
  check("block bitmap", group.block_bitmap, 1);
  check("inode bitmap", group.inode_bitmap, 1);
  check("inode table", group.inode_table, g.itable_blocks);
  if (group.free_clusters > g.group_clusters(number))
    state.find(where(), "{} free clusters are more than it has", group.free_clusters);
  if (group.free_inodes > g.inodes_per_group)
    state.find(where(), "{} free inodes are more than it has", group.free_inodes);
  if (group.itable_unused > g.inodes_per_group)
    state.find(where(), "{} unused inodes are more than it has", group.itable_unused);
  const auto raw_flags =
      parse_as<Le16>(state.fs.raw_descriptor(number), offsetof(GroupDescriptor, flags));
  if (!g.lazy_groups() && (raw_flags.value() & (group_inode_uninit | group_block_uninit)) != 0)
    state.find(where(), "it says it was never written, which this filesystem does not know");
  if (group.block_uninit() && number + 1 == g.group_count)
    state.find(where(), "the last group says that its block bitmap was never written");
}

// A copy of the superblock serves when the first is lost: it must describe the same filesystem.
void check_super_copy(AuditState& state, std::uint32_t number) {
  const Geometry& g = state.fs.geometry();
  const std::string where = fmt::format("superblock copy in group {}", number);
  const auto copy = read_as<Superblock>(state.fs.store(), g.super_offset(number));
  const Superblock& super = state.fs.super();
  if (copy.magic.value() != superblock_magic) {
    state.find(where, "it has no signature");
    return;
  }
  if (g.metadata_csum() && Checksums::superblock(copy) != copy.checksum.value()) {
    state.find(where, "its checksum is wrong");
    return;
  }
  const auto blocks_of = [](const Superblock& s) {
    return s.blocks_count_lo.value() | std::uint64_t{s.blocks_count_hi.value()} << 32;
  };
  if (blocks_of(copy) != blocks_of(super) ||
      copy.inodes_count.value() != super.inodes_count.value() ||
      copy.log_block_size.value() != super.log_block_size.value() ||
      copy.blocks_per_group.value() != super.blocks_per_group.value() ||
      copy.inodes_per_group.value() != super.inodes_per_group.value() || copy.uuid != super.uuid)
    state.find(where, "it describes another size or another filesystem than the first");
  if (copy.block_group_nr.value() != (number & 0xFFFF))
    state.find(where, "it says it belongs to group {}", copy.block_group_nr.value());
}

void check_super(AuditState& state) {
  const Superblock& super = state.fs.super();
  const Geometry& g = state.fs.geometry();
  const std::uint64_t clusters = ceil_div(g.blocks - g.first_data_block, g.cluster_ratio);
  if ((super.state.value() & state_errors) != 0)
    state.find("superblock", "the guest has marked the filesystem as having errors");
  if (super.rev_level.value() > 1)
    state.find("superblock", "it says revision {}: guests only read those above 1",
               super.rev_level.value());
  if (state.fs.free_clusters() > clusters)
    state.find("superblock", "{} free clusters are more than there are", state.fs.free_clusters());
  if (super.free_inodes_count.value() > g.inodes())
    state.find("superblock", "{} free inodes are more than there are",
               super.free_inodes_count.value());
  if (state.fs.reserved_blocks() > g.blocks / 2)
    state.find("superblock", "{} reserved blocks are more than half of all",
               state.fs.reserved_blocks());
}

// Copies of the descriptor table: the guest refreshes counts in the first one only, but the places
// must agree. One finding a copy is enough.
void check_table_copy(AuditState& state, std::uint32_t backup, std::uint32_t first_group) {
  const Geometry& g = state.fs.geometry();
  if (g.meta_bg() && backup / g.desc_per_block >= g.first_meta_bg) return;
  std::uint64_t wrong = 0;
  std::uint64_t example = 0;
  constexpr std::uint32_t together = 64;
  for (std::uint32_t i = 0; i < g.old_desc_blocks(); i += together) {
    const std::uint32_t here = std::min(together, g.old_desc_blocks() - i);
    const Buffer copy = read_buffer(state.fs.store(), g.offset(g.gdt_start(backup) + i),
                                    std::size_t{here} * g.block_size);
    const ConstByteSpan first = state.fs.descriptor_blocks(i, here);
    for (std::uint32_t n = 0; n < here * g.desc_per_block; ++n) {
      const std::uint64_t group = std::uint64_t{i} * g.desc_per_block + n;
      if (group >= g.group_count) break;
      const std::size_t at = std::size_t{n / g.desc_per_block} * g.block_size +
                             std::size_t{n % g.desc_per_block} * g.desc_size;
      constexpr std::size_t places = 12;  // the three locations come first in a descriptor
      // A growth writes new copies whole, and of old copies the blocks from first_group on.
      const bool ours = group >= first_group || backup > first_group;
      if (!ours || std::memcmp(copy.data() + at, first.data() + at, places) == 0) continue;
      if (wrong++ == 0) example = group;
    }
  }
  if (wrong != 0)
    state.find(fmt::format("descriptor copy in group {}", backup),
               "it puts the metadata of {} groups elsewhere, from group {} on", wrong, example);
}

}  // namespace

void audit_layout(AuditState& state, std::uint32_t first_group) {
  const Geometry& g = state.fs.geometry();
  check_super(state);
  std::vector<Owned> owned;
  for (std::uint32_t group = 0; group < g.group_count; ++group) {
    for (const BlockRange& run : g.base_metadata(group)) {
      const std::uint64_t start = std::max<std::uint64_t>(run.start, g.first_data_block);
      owned.push_back({{start, std::min(run.end(), g.blocks) - start}, group, "table copy"});
    }
    if (group != 0 && g.has_super(group)) check_super_copy(state, group);
    check_group_places(state, group, owned);
  }
  std::sort(owned.begin(), owned.end(),
            [](const Owned& a, const Owned& b) { return a.run.start < b.run.start; });
  std::uint64_t end = 0;
  for (const Owned& item : owned) {
    if (item.run.start < end)
      state.find(fmt::format("group {}", item.group), "its {} at block {} lies on other metadata",
                 item.what, item.run.start);
    end = std::max(end, item.run.end());
    if (state.claimed.size() == 0) continue;
    const std::uint64_t last = state.cluster_of(item.run.end() - 1);
    for (std::uint64_t cluster = state.cluster_of(item.run.start); cluster <= last; ++cluster)
      state.claimed.set(cluster);
  }
  for (const std::uint32_t backup : g.backup_groups()) check_table_copy(state, backup, first_group);
}

void audit(Filesystem& fs, const AuditRequest& request, Findings& findings, Progress& progress) {
  const bool full = request.scope >= AuditScope::full;
  AuditState state(fs, findings, progress, full);
  const Geometry& g = fs.geometry();
  progress.begin("auditing the filesystem",
                 full ? std::uint64_t{g.group_count} * g.itable_blocks * g.block_size : 0);
  audit_layout(state, full ? 0 : request.first_group);
  // Where the metadata's own places are wrong, what they hold cannot be judged.
  if (findings.clean() || full) {
    audit_special_inodes(state, request.scope);
    if (full) {
      audit_inodes(state);
      audit_directories(state);
    }
    audit_bitmaps(state, full ? 0 : request.first_group, full);
  }
  progress.end();
}

}  // namespace jh::ext

#include "core/fs/xfs/quota.h"

#include <fmt/format.h>

#include "core/fs/xfs/content_format.h"

namespace jh::xfs {
namespace {

struct Kind {
  const char* name;
  std::uint16_t checked;  // flag of the superblock: the counts hold
  std::uint8_t type;      // in the records
};
constexpr std::array<Kind, 3> kinds{{{"user", quota_flag::users_checked, 1},
                                     {"group", quota_flag::groups_checked, 4},
                                     {"project", quota_flag::projects_checked, 2}}};
constexpr std::uint8_t type_mask = 7;

std::array<std::uint64_t, 3> inodes_of(const Superblock& super) {
  return {super.user_quota_inode.value(), super.group_quota_inode.value(),
          super.project_quota_inode.value()};
}

bool is_there(std::uint64_t inode) { return inode != 0 && inode != ~0ULL; }

}  // namespace

std::vector<std::uint64_t> quota_inodes(const Superblock& super) {
  std::vector<std::uint64_t> all;
  for (const std::uint64_t inode : inodes_of(super))
    if (is_there(inode)) all.push_back(inode);
  return all;
}

void QuotaCounts::note(const Superblock& super, std::uint64_t number, const Inode& core) {
  for (const std::uint64_t own : inodes_of(super))
    if (number == own) return;
  const std::uint32_t project =
      std::uint32_t{core.project_high.value()} << 16 | core.project_low.value();
  const std::array<std::uint32_t, 3> ids{core.user.value(), core.owner_group.value(), project};
  for (std::size_t kind = 0; kind < kinds.size(); ++kind) {
    Used& used = used_[kind][ids[kind]];
    used.blocks += core.blocks.value();
    ++used.inodes;
  }
}

namespace {

// All records of one kind, in their order: where each is, and its bytes.
void for_each_record(
    Store& place, const Geometry& geometry, std::uint64_t inode,
    const std::function<void(std::uint32_t id, std::uint64_t at, ConstByteSpan bytes)>& visit) {
  const std::uint64_t block_size = geometry.block_size();
  const std::uint64_t in_block = block_size / sizeof(QuotaRecord);
  const InodeFile file(place, geometry, inode);
  for (const FileExtent& extent : file.extents())
    for (std::uint64_t i = 0; i < extent.count; ++i) {
      const std::uint64_t at = geometry.block_at(extent.block) + i * block_size;
      const Buffer block = read_buffer(place, at, block_size);
      for (std::uint64_t k = 0; k < in_block; ++k) {
        const ConstByteSpan bytes =
            ConstByteSpan(block).subspan(k * sizeof(QuotaRecord), sizeof(QuotaRecord));
        if (parse_as<QuotaCountsText>(bytes, 0).magic.value() == quota_magic)
          visit(static_cast<std::uint32_t>((extent.offset + i) * in_block + k),
                at + k * sizeof(QuotaRecord), bytes);
      }
    }
}

}  // namespace

void QuotaCounts::compare(Store& place, const Geometry& geometry, Findings& findings) const {
  const Superblock& super = geometry.superblock();
  for (std::size_t kind = 0; kind < kinds.size(); ++kind) {
    const std::uint64_t inode = inodes_of(super)[kind];
    if ((super.quota_flags.value() & kinds[kind].checked) == 0 || !is_there(inode)) continue;
    const std::string where = fmt::format("XFS, {} quota", kinds[kind].name);
    ById left = used_[kind];
    for_each_record(
        place, geometry, inode, [&](std::uint32_t id, std::uint64_t, ConstByteSpan bytes) {
          const auto counts = parse_as<QuotaCountsText>(bytes, 0);
          if (!checksum_matches(bytes, offsetof(QuotaRecord, checksum)) ||
              counts.id.value() != id || (counts.type & type_mask) != kinds[kind].type) {
            findings.add(where, fmt::format("the record of {} is damaged", id));
            return;
          }
          const Used said{counts.blocks.value(), counts.inodes.value()};
          const Used has = left[id];
          left.erase(id);
          if (said != has)
            findings.add(where,
                         fmt::format("{} has {} blocks and {} inodes, but the record says {} "
                                     "and {}",
                                     id, has.blocks, has.inodes, said.blocks, said.inodes));
        });
    for (const auto& [id, used] : left)
      if (used.inodes != 0) findings.add(where, fmt::format("{} has files, and no record", id));
  }
}

void change_quota(Store& place, const Geometry& geometry,
                  const std::function<std::uint64_t(std::uint64_t)>& renumbered,
                  const QuotaChanges& changes) {
  const Superblock& super = geometry.superblock();
  for (std::size_t kind = 0; kind < kinds.size(); ++kind) {
    const std::uint64_t inode = inodes_of(super)[kind];
    if ((super.quota_flags.value() & kinds[kind].checked) == 0 || !is_there(inode)) continue;
    for_each_record(place, geometry, renumbered(inode),
                    [&](std::uint32_t id, std::uint64_t at, ConstByteSpan bytes) {
                      const auto more = changes[kind].find(id);
                      if (more == changes[kind].end() || more->second == 0) return;
                      Buffer record(bytes.begin(), bytes.end());
                      auto counts = parse_as<QuotaCountsText>(record, 0);
                      counts.blocks = counts.blocks.value() + more->second;
                      put_at(record, 0, counts);
                      set_checksum(record, offsetof(QuotaRecord, checksum));
                      place.write(at, record);
                    });
  }
}

std::optional<std::string> changed_quota(Store& before, const Geometry& geometry_before,
                                         Store& after, const Geometry& geometry_after) {
  using Records = std::map<std::uint32_t, Buffer>;
  const auto records = [](Store& place, const Geometry& geometry, std::uint64_t inode) {
    Records out;
    if (!is_there(inode)) return out;
    for_each_record(place, geometry, inode,
                    [&](std::uint32_t id, std::uint64_t, ConstByteSpan bytes) {
                      Buffer record(bytes.begin(), bytes.end());
                      auto counts = parse_as<QuotaCountsText>(record, 0);
                      counts.blocks = 0;
                      put_at(record, 0, counts);
                      put_at(record, offsetof(QuotaRecord, checksum), Le32(0));
                      out.emplace(id, std::move(record));
                    });
    return out;
  };
  for (std::size_t kind = 0; kind < kinds.size(); ++kind)
    if (records(before, geometry_before, inodes_of(geometry_before.superblock())[kind]) !=
        records(after, geometry_after, inodes_of(geometry_after.superblock())[kind]))
      return kinds[kind].name;
  return std::nullopt;
}

}  // namespace jh::xfs

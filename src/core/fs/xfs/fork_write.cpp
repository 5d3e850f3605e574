#include "core/fs/xfs/fork_write.h"

#include <fmt/format.h>

#include <algorithm>

namespace jh::xfs {
namespace {

EncodedExtent encoded(const FileExtent& extent) {
  EncodedExtent out{};
  out.high = (extent.unwritten ? 1ULL << 63 : 0) | extent.offset << 9 | extent.block >> 43;
  out.low = extent.block << 21 | extent.count;
  return out;
}

void set_count(Inode& core, bool many, bool attributes, std::uint64_t count) {
  if (many && attributes)
    core.extents = checked_cast<std::uint32_t>(count);
  else if (many)
    core.many_extents = count;
  else if (attributes)
    core.attribute_extents = checked_cast<std::uint16_t>(count);
  else
    core.extents = checked_cast<std::uint32_t>(count);
}

}  // namespace

ForkChange ForkWriter::write(ByteSpan inode, bool attributes,
                             const std::vector<FileExtent>& extents,
                             const std::vector<std::uint64_t>& had) {
  auto core = parse_as<Inode>(inode, 0);
  const std::size_t split = std::size_t{core.fork_offset} * 8;
  const ByteSpan rest = inode.subspan(sizeof(Inode));
  const ByteSpan fork = attributes ? rest.subspan(split) : split == 0 ? rest : rest.first(split);
  const bool many = geometry_.is(incompatible::large_extent_counts) &&
                    (core.flags2.value() & has_many_extents) != 0;
  set_count(core, many, attributes, extents.size());
  std::fill(fork.begin(), fork.end(), std::uint8_t{0});
  ForkChange change;
  std::uint8_t format = fork::extents;
  if (extents.size() * sizeof(EncodedExtent) <= fork.size()) {
    for (std::size_t i = 0; i < extents.size(); ++i)
      put_at(fork, i * sizeof(EncodedExtent), encoded(extents[i]));
  } else {
    // "Extent List, B+tree": the root in the inode has keys of 8 bytes, then places of 8 bytes.
    format = fork::tree;
    const std::size_t most = fork.size() < 20 ? 0 : (fork.size() - 4) / 16;
    if (most == 0)
      refuse(fmt::format("inode {} has no room to be split", core.number.value()), "XFS",
             "choose a larger size");
    std::vector<Child> children;
    unsigned level = 0;
    do {
      children = write_level(level++, children, extents, change, had, core.number.value());
    } while (children.size() > most);
    put_at(fork, 0, Be16(static_cast<std::uint16_t>(level)));
    put_at(fork, 2, Be16(static_cast<std::uint16_t>(children.size())));
    for (std::size_t i = 0; i < children.size(); ++i) {
      put_at(fork, 4 + i * 8, Be64(children[i].key));
      put_at(fork, 4 + most * 8 + i * 8, Be64(lines_.number(children[i].line)));
    }
  }
  (attributes ? core.attribute_format : core.format) = format;
  put_at(inode, 0, core);
  change.freed.assign(had.begin() + static_cast<std::ptrdiff_t>(change.kept), had.end());
  return change;
}

std::vector<ForkWriter::Child> ForkWriter::write_level(
    unsigned level, const std::vector<Child>& below, const std::vector<FileExtent>& extents,
    ForkChange& change, const std::vector<std::uint64_t>& had, std::uint64_t owner) {
  const std::size_t most = (geometry_.block_size() - sizeof(LongTreeHeader)) / 16;
  const std::size_t all = level == 0 ? extents.size() : below.size();
  const std::size_t blocks = ceil_div(all, most);
  std::vector<Child> out(blocks);
  for (Child& child : out) {
    child.stays = change.kept < had.size();
    if (child.stays) {
      child.line = had[change.kept++];
    } else {
      child.line = room_.take(1).front().line;
      change.added.push_back(child.line);
    }
  }
  std::size_t at = 0;
  for (std::size_t i = 0; i < blocks; ++i) {
    const std::size_t count = all / blocks + (i < all % blocks ? 1 : 0);
    const std::uint64_t where = lines_.at(out[i].line);
    Buffer block(geometry_.block_size());
    LongTreeHeader header{};
    if (out[i].stays) header.log_sequence = read_as<LongTreeHeader>(place_, where).log_sequence;
    header.magic = tree_magic::extents;
    header.level = static_cast<std::uint16_t>(level);
    header.records = static_cast<std::uint16_t>(count);
    header.left = i == 0 ? UINT64_MAX : lines_.number(out[i - 1].line);
    header.right = i + 1 == blocks ? UINT64_MAX : lines_.number(out[i + 1].line);
    header.address = where / basic_block;
    header.uuid = geometry_.metadata_uuid();
    header.owner = owner;
    put_at(block, 0, header);
    const ByteSpan data = ByteSpan(block).subspan(sizeof(LongTreeHeader));
    for (std::size_t k = 0; k < count; ++k, ++at) {
      if (level == 0) {
        put_at(data, k * sizeof(EncodedExtent), encoded(extents[at]));
        continue;
      }
      put_at(data, k * 8, Be64(below[at].key));
      put_at(data, most * 8 + k * 8, Be64(lines_.number(below[at].line)));
    }
    out[i].key = level == 0 ? extents[at - count].offset : below[at - count].key;
    set_checksum(block, offsetof(LongTreeHeader, checksum));
    if (out[i].stays)
      place_.write(where, block);
    else
      place_.write_unreferenced(where, block);
  }
  return out;
}

}  // namespace jh::xfs

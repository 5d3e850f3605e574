#include "core/fs/xfs/relocate.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "core/fs/xfs/attributes.h"
#include "core/fs/xfs/block_rewrite.h"

namespace jh::xfs {
namespace {

class Relocation {
 public:
  Relocation(Store& place, const Geometry& geometry, const Cut& cut, Room& room, Progress& progress)
      : place_(place),
        geometry_(geometry),
        cut_(cut),
        room_(room),
        progress_(progress),
        lines_(geometry),
        forks_(place, geometry, room),
        quotas_(quota_inodes(geometry.superblock())),
        out_(geometry) {}

  Relocated run() {
    for (std::uint32_t number = 0; number < geometry_.groups(); ++number)
      chunks_.push_back(Group(place_, geometry_, number).chunks());
    place_inodes();
    progress_.begin("looking for what has to move", 0);
    for_each_inode([&](const InodeFile& file) { note_extents(file); });
    progress_.end();
    out_.moves.place_all(room_);
    copy_content();
    progress_.begin("rewriting inodes", 0);
    begin_units();
    for_each_inode([&](const InodeFile& file) { rewrite(file); });
    progress_.end();
    move_log();
    return std::move(out_);
  }

 private:
  // --- what has no owner but the filesystem

  // Last of all: what lies where it goes has been read by then.
  void move_log() {
    if (cut_.log.count == 0) return;
    const std::uint64_t from = lines_.line(geometry_.superblock().log_start.value());
    // Its records say their places by where they are in it, so it can be copied as it is.
    copy_in_pieces(place_, lines_.at(from), place_, lines_.at(cut_.log.line),
                   cut_.log.count * geometry_.block_size(), [](std::uint64_t) {});
    own(cut_.log, owner::log, 0);
    const std::uint64_t inside = cut_.log.line % geometry_.group_blocks();
    add_range(out_.groups[lines_.group(cut_.log.line)].emptied, inside, inside + cut_.log.count);
    // Of a log that crosses the end, what was in front of it.
    if (from < cut_.kept_end()) free_up(from, cut_.kept_end() - from);
  }

  std::uint64_t line_of_inode(std::uint64_t inode) const {
    return lines_.line(inode >> geometry_.superblock().inodes_per_block_log);
  }

  // Records behind the end by the units that they were made in. Those without any inode in use go.
  void place_inodes() {
    const std::uint64_t in_unit = inodes_in_unit(geometry_);
    const std::uint64_t per_block = 1ULL << geometry_.superblock().inodes_per_block_log;
    for (std::uint32_t group = cut_.groups - 1; group < geometry_.groups(); ++group) {
      std::map<std::uint64_t, std::vector<InodeChunk>> units;
      for (const InodeChunk& chunk : chunks_[group])
        if (group >= cut_.groups || is_behind(geometry_, chunk, cut_.kept)) {
          const std::uint64_t first = chunk.first.value();
          units[in_unit == inodes_per_chunk ? first : first - first % in_unit].push_back(chunk);
        }
      for (const auto& [first, chunks] : units) {
        for (const InodeChunk& chunk : chunks) free_inode_blocks(group, chunk);
        if (std::all_of(chunks.begin(), chunks.end(), [&](const InodeChunk& chunk) {
              return chunk.free_count == inodes_in(geometry_, chunk);
            }))
          continue;
        const Blocks to = room_.take_aligned(inode_unit(geometry_), inode_alignment(geometry_));
        const std::uint32_t new_group = lines_.group(to.line);
        const std::uint64_t new_first = to.line % geometry_.group_blocks() * per_block;
        out_.renumbered.add(geometry_.inode_number(group, first),
                            geometry_.inode_number(new_group, new_first));
        own(to, owner::inodes, 0);
        for (InodeChunk chunk : chunks) {
          chunk.free = chunk.free.value() | missing_in(geometry_, chunk);
          chunk.free_count = static_cast<std::uint8_t>(std::popcount(chunk.free.value()));
          chunk.hole_mask = 0;
          if (geometry_.is(incompatible::sparse_inodes)) chunk.count = inodes_per_chunk;
          chunk.first = static_cast<std::uint32_t>(new_first + (chunk.first.value() - first));
          out_.groups[new_group].chunks.push_back(chunk);
        }
      }
    }
  }

  // A record is taken away whole, and some of its blocks may lie in front of the end.
  void free_inode_blocks(std::uint32_t group, const InodeChunk& chunk) {
    const std::uint64_t missing = missing_in(geometry_, chunk);
    for (unsigned k = 0; k < inodes_per_chunk; ++k)
      if ((missing >> k & 1) == 0)
        free_up(
            line_of_inode(geometry_.inode_number(group, chunk.first.value() + std::uint64_t{k})),
            1);
  }

  void free_up(std::uint64_t line, std::uint64_t count) {
    if (line >= cut_.kept_end()) return;
    const std::uint64_t inside = line % geometry_.group_blocks();
    add_range(out_.groups[lines_.group(line)].freed, inside, inside + count);
  }

  void own(const Blocks& blocks, std::uint64_t who, std::uint64_t offset) {
    out_.groups[lines_.group(blocks.line)].owners.push_back(
        {Be32(static_cast<std::uint32_t>(blocks.line % geometry_.group_blocks())),
         Be32(static_cast<std::uint32_t>(blocks.count)), Be64(who), Be64(offset)});
  }

  // --- files

  void for_each_inode(const std::function<void(const InodeFile&)>& visit) {
    for (std::uint32_t group = 0; group < geometry_.groups(); ++group)
      for (const InodeChunk& chunk : chunks_[group]) {
        const std::uint64_t none = missing_in(geometry_, chunk) | chunk.free.value();
        for (unsigned k = 0; k < inodes_per_chunk; ++k)
          if ((none >> k & 1) == 0)
            visit(InodeFile(place_, geometry_,
                            geometry_.inode_number(group, chunk.first.value() + std::uint64_t{k})));
        progress_.advance(0);
      }
  }

  bool is_quota(std::uint64_t number) const {
    return std::find(quotas_.begin(), quotas_.end(), number) != quotas_.end();
  }

  void note_extents(const InodeFile& file) {
    for (const bool attributes : {false, true})
      for (const FileExtent& extent : file.extents(attributes)) {
        const Blocks all{lines_.line(extent.block), extent.count};
        const auto kind = !attributes && file.is_link() ? Moves::Kind::whole
                          : attributes || file.is_folder() || is_quota(file.number())
                              ? Moves::Kind::rewritten
                          : extent.unwritten ? Moves::Kind::reserved
                                             : Moves::Kind::content;
        bool moves = false;
        cut_.for_each_part(all, [&](const Blocks& part, bool leaves) {
          moves = moves || leaves;
          if (leaves && kind != Moves::Kind::whole) out_.moves.note(part.line, part.count, kind);
        });
        if (!moves || kind != Moves::Kind::whole) continue;
        out_.moves.note(all.line, all.count, kind);
        cut_.for_each_part(all, [&](const Blocks& part, bool leaves) {
          if (!leaves) free_up(part.line, part.count);
        });
      }
  }

  void copy_content() {
    const std::uint64_t block = geometry_.block_size();
    std::uint64_t all = 0;
    for (const Moves::Move& move : out_.moves.all())
      if (move.kind == Moves::Kind::content) all += move.count * block;
    progress_.begin("moving files", all);
    std::uint64_t done = 0;
    for (const Moves::Move& move : out_.moves.all()) {
      if (move.kind != Moves::Kind::content) continue;
      copy_in_pieces(place_, lines_.at(move.from), place_, lines_.at(move.to), move.count * block,
                     [&](std::uint64_t here) { progress_.advance(done + here); });
      done += move.count * block;
    }
    progress_.end();
  }

  // Every inode of a unit is there, in use or not; those in use are written over it.
  void begin_units() {
    const std::size_t size = geometry_.superblock().inode_size.value();
    for (const auto& [old_first, new_first] : out_.renumbered.units()) {
      Buffer unit(inode_unit(geometry_) * geometry_.block_size());
      for (std::uint64_t k = 0; k * size < unit.size(); ++k) {
        const ByteSpan inode = ByteSpan(unit).subspan(k * size, size);
        Inode core{};
        core.magic = inode_magic;
        core.version = 3;
        core.next_unlinked = not_listed;
        core.generation = static_cast<std::uint32_t>(old_first * 2654435761U + k);
        core.number = new_first + k;
        core.uuid = geometry_.metadata_uuid();
        put_at(inode, 0, core);
        set_checksum(inode, offsetof(Inode, checksum));
      }
      place_.write_unreferenced(geometry_.inode_at(new_first), unit);
    }
  }

  std::vector<PlacedExtent> placed(const std::vector<FileExtent>& extents) const {
    std::vector<PlacedExtent> out;
    for (const FileExtent& extent : extents) {
      std::uint64_t offset = extent.offset;
      std::uint64_t line = lines_.line(extent.block);
      out_.moves.for_each_place(line, extent.count, [&](Blocks to) {
        out.push_back(
            {{offset, lines_.number(to.line), to.count, extent.unwritten}, to.line != line});
        offset += to.count;
        line += to.count;
      });
    }
    return out;
  }

  // What of a file is not content, and says where it lies.
  void rewrite_blocks(const InodeFile& file, bool attributes, std::uint64_t number,
                      const std::vector<FileExtent>& before, const std::vector<PlacedExtent>& now) {
    BlockRewrite blocks(place_, geometry_, file, number, out_.renumbered);
    if (attributes)
      blocks.attributes(before, now);
    else if (file.is_folder())
      blocks.folder(before, now);
    else if (file.is_link())
      blocks.link(before, now);
    else if (is_quota(file.number()))
      blocks.plain(before, now);
  }

  void rewrite(const InodeFile& file) {
    const std::uint64_t number = out_.renumbered.of(file.number());
    Buffer inode = file.bytes();
    auto core = parse_as<Inode>(inode, 0);
    core.number = number;
    put_at(inode, 0, core);
    bool changed = number != file.number();
    std::uint64_t more = 0;
    for (const bool attributes : {false, true}) {
      const std::uint8_t format = attributes ? core.attribute_format : core.format;
      if (attributes && core.fork_offset == 0) continue;
      if (format != fork::extents && format != fork::tree) continue;
      if (rewrite_fork(file, attributes, number, inode, more)) changed = true;
    }
    if (file.is_folder() && core.format == fork::local && !out_.renumbered.empty() &&
        renumber_short_folder(geometry_, file, out_.renumbered, inode))
      changed = true;
    if (geometry_.is(incompatible::parent_pointers) && core.attribute_format == fork::local &&
        !out_.renumbered.empty() &&
        renumber_short_parents(out_.renumbered, ByteSpan(inode).last(file.attribute_fork().size())))
      changed = true;
    if (!changed) return;
    core = parse_as<Inode>(inode, 0);
    core.blocks = core.blocks.value() + more;
    put_at(inode, 0, core);
    set_checksum(inode, offsetof(Inode, checksum));
    if (more != 0 && !is_quota(file.number())) {
      out_.more_blocks[0][core.user.value()] += more;
      out_.more_blocks[1][core.owner_group.value()] += more;
      out_.more_blocks[2][std::uint32_t{core.project_high.value()} << 16 |
                          core.project_low.value()] += more;
    }
    const std::uint64_t at = geometry_.inode_at(number);
    if (number == file.number())
      place_.write(at, inode);
    else
      place_.write_unreferenced(at, inode);
  }

  // True: its list of extents, or its tree, was written anew.
  bool rewrite_fork(const InodeFile& file, bool attributes, std::uint64_t number, Buffer& inode,
                    std::uint64_t& more) {
    std::vector<std::uint64_t> nodes;
    const std::vector<FileExtent> before =
        file.extents(attributes, [&](std::uint64_t block) { nodes.push_back(lines_.line(block)); });
    const std::vector<PlacedExtent> now = placed(before);
    const std::uint64_t fork_flag = attributes ? of_attributes : 0;
    std::vector<FileExtent> extents;
    bool moved = false;
    for (const PlacedExtent& each : now) {
      extents.push_back(each.extent);
      if (!each.moved) continue;
      moved = true;
      own({lines_.line(each.extent.block), each.extent.count}, number,
          fork_flag | (each.extent.unwritten ? not_written : 0) | each.extent.offset);
    }
    rewrite_blocks(file, attributes, number, before, now);
    const std::size_t had = nodes.size();
    std::erase_if(nodes, [&](std::uint64_t line) { return cut_.leaves(line); });
    if (!moved && nodes.size() == had && (number == file.number() || had == 0)) return false;
    const ForkChange change = forks_.write(inode, attributes, extents, nodes);
    for (const std::uint64_t line : change.added)
      own({line, 1}, number, fork_flag | of_extent_tree);
    for (const std::uint64_t line : change.freed) free_up(line, 1);
    more += change.kept + change.added.size() - had;
    return true;
  }

  Store& place_;
  const Geometry& geometry_;
  const Cut& cut_;
  Room& room_;
  Progress& progress_;
  Lines lines_;
  ForkWriter forks_;
  std::vector<std::uint64_t> quotas_;
  Relocated out_;
  std::vector<std::vector<InodeChunk>> chunks_;  // of each group
};

}  // namespace

Relocated relocate(Store& place, const Geometry& geometry, const Cut& cut, Room& room,
                   Progress& progress) {
  return Relocation(place, geometry, cut, room, progress).run();
}

}  // namespace jh::xfs

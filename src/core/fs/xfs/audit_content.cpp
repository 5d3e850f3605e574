#include <fmt/format.h>

#include <map>
#include <unordered_map>

#include "core/base/ranges.h"
#include "core/fs/xfs/audit.h"
#include "core/fs/xfs/audit_files.h"
#include "core/fs/xfs/content_format.h"
#include "core/fs/xfs/inode.h"
#include "core/fs/xfs/quota.h"
#include "core/fs/xfs/shared_blocks.h"

namespace jh::xfs {
namespace {

constexpr std::uint64_t nobody = 0;
constexpr std::uint32_t staging =
    1U << 31;  // in the tree of reference counts: not shared, in the making

// Whose blocks lie in a row, and as what: blocks of a file's extents in one row have places on the
// disk and in the file that are equally far apart.
struct Belonging {
  std::uint64_t owner = nobody;
  std::uint64_t flags = 0;
  std::uint64_t apart = 0;
  auto operator<=>(const Belonging&) const = default;
};

class ContentAudit {
 public:
  ContentAudit(Store& place, const Geometry& geometry, NewestSequence& newest, Findings& findings,
               Progress& progress)
      : place_(place),
        geometry_(geometry),
        newest_(newest),
        findings_(findings),
        progress_(progress) {}

  void run() {
    const Superblock& super = geometry_.superblock();
    own(super.log_start.value(), super.log_blocks.value(), "the log", {owner::log});
    progress_.begin("auditing inodes", 0);
    for (std::uint32_t group = 0; group < geometry_.groups(); ++group) shared_extents(group);
    for (std::uint32_t group = 0; group < geometry_.groups(); ++group) metadata(group);
    for (std::uint32_t group = 0; group < geometry_.groups(); ++group) inodes_of(group);
    links();
    if (complete_) guarded([&] { quota_.compare(place_, geometry_, findings_); });
    for (std::uint32_t group = 0; group < geometry_.groups(); ++group) all_owned(group);
    reverse_map();
    if (const std::string wrong = complete_ ? shared_.difference() : std::string(); !wrong.empty())
      add(wrong);
    progress_.end();
  }

 private:
  struct Node {
    std::uint32_t links = 0;
    std::uint32_t names = 0;
    std::uint32_t folders = 0;
    bool folder = false;
    std::uint8_t type = 0;    // as names say it
    std::uint64_t above = 0;  // the folder that it says it is in
    std::uint64_t real = 0;   // the folder that has its name
  };
  struct Name {
    std::uint64_t folder;
    std::uint64_t child;
    std::uint8_t type;
  };

  void add(const std::string& what) { findings_.add("XFS", what); }

  // In blocks that count through all groups.
  std::uint64_t line(std::uint64_t block) const {
    return geometry_.block_at(block) / geometry_.block_size();
  }

  void own_line(std::uint64_t start, std::uint64_t count, const std::string& who,
                const Belonging& owner) {
    if (owner.owner != nobody && geometry_.has(ro_compatible::reverse_map))
      add_range(by_owner_[owner], start, start + count);
    if (overlaps(owned_, start, start + count)) {
      // Shared on purpose, or twice by mistake.
      std::uint64_t shared = 0;
      for_each_inside(shared_.all(), start, start + count,
                      [&](std::uint64_t from, std::uint64_t to) { shared += to - from; });
      std::uint64_t taken = 0;
      for_each_inside(owned_, start, start + count, [&](std::uint64_t from, std::uint64_t to) {
        std::uint64_t inside = 0;
        for_each_inside(shared_.all(), from, to,
                        [&](std::uint64_t a, std::uint64_t b) { inside += b - a; });
        taken += to - from - inside;
      });
      if (taken != 0) add(fmt::format("{} has blocks that belong to something else, too", who));
    }
    add_range(owned_, start, start + count);
  }
  void own(std::uint64_t block, std::uint64_t count, const std::string& who,
           const Belonging& owner) {
    own_line(line(block), count, who, owner);
  }

  void shared_extents(std::uint32_t number) {
    if (!geometry_.has(ro_compatible::shared_extents)) return;
    guarded([&] {
      const Group group(place_, geometry_, number);
      const std::uint64_t base = geometry_.group_at(number) / geometry_.block_size();
      group.walk(Tree::shared, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
        for (std::size_t i = 0; i < records; ++i) {
          const auto extent = parse_as<SharedExtent>(data, i * sizeof(SharedExtent));
          const std::uint64_t start = base + (extent.start.value() & ~staging);
          const std::uint64_t end = start + extent.count.value();
          if ((extent.start.value() & staging) != 0)
            waiting_.emplace_back(start, end - start);
          else
            shared_.note_count(start, end, extent.references.value());
        }
      });
    });
  }

  void metadata(std::uint32_t number) {
    guarded([&] {
      const Group group(place_, geometry_, number);
      const std::uint64_t base = geometry_.group_at(number) / geometry_.block_size();
      const std::string who = fmt::format("group {}", number);
      own_line(base, geometry_.header_blocks(), who, {owner::filesystem});
      for (const Tree tree : all_trees)
        if (group.has(tree))
          group.walk(
              tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
              [&](std::uint32_t block, const TreeHeader& header) {
                own_line(base + block, 1, who, {owner_of(tree)});
                newest_.note(header.log_sequence.value());
              });
      for (const std::uint32_t block : group.free_list())
        own_line(base + block, 1, who, {owner::group});
      for (const FreeExtent& extent : group.free_extents())
        own_line(base + extent.start.value(), extent.count.value(), who + "'s free space", {});
    });
    if (number + 1 == geometry_.groups())
      for (const auto& [start, count] : waiting_)
        own_line(start, count, "an unfinished copy", {owner::copy_on_write});
  }

  void inodes_of(std::uint32_t number) {
    guarded([&] {
      const Group group(place_, geometry_, number);
      const Superblock& super = geometry_.superblock();
      const unsigned in_block = super.inodes_per_block_log;
      const std::uint64_t base = geometry_.group_at(number) / geometry_.block_size();
      std::uint64_t last_block = UINT64_MAX;
      group.walk(Tree::inodes, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
        for (std::size_t i = 0; i < records; ++i) {
          const auto chunk = parse_as<InodeChunk>(data, i * sizeof(InodeChunk));
          const std::uint64_t missing = missing_in(geometry_, chunk);
          for (unsigned k = 0; k < inodes_per_chunk; ++k) {
            if ((missing >> k & 1) != 0) continue;
            const std::uint64_t inside = std::uint64_t{chunk.first.value()} + k;
            const std::uint64_t block = inside >> in_block;
            if (block >= group.blocks()) {
              add(fmt::format("group {}: inodes lie outside of it", number));
              return;
            }
            if (block != last_block)
              own_line(base + block, 1, fmt::format("the inodes of group {}", number),
                       {owner::inodes});
            last_block = block;
            if ((chunk.free.value() >> k & 1) == 0)
              inode(geometry_.inode_number(number, inside));
            else
              free_inode(geometry_.inode_number(number, inside), base + block, inside);
          }
          progress_.advance(0);
        }
      });
    });
  }

  // One that is marked as free is there, and does not look as if it were in use.
  void free_inode(std::uint64_t number, std::uint64_t block_line, std::uint64_t inside) {
    const std::uint64_t size = geometry_.superblock().inode_size.value();
    const std::uint64_t in_block = inside & (geometry_.block_size() / size - 1);
    const Buffer bytes =
        read_buffer(place_, block_line * geometry_.block_size() + in_block * size, size);
    const auto core = parse_as<Inode>(bytes, 0);
    if (core.magic.value() != inode_magic || core.number.value() != number ||
        !checksum_matches(bytes, offsetof(Inode, checksum)))
      add(fmt::format("inode {} is marked as free, and is damaged", number));
    else if (core.mode.value() != 0)
      add(fmt::format("inode {} is marked as free, and is in use", number));
  }

  void inode(std::uint64_t number) {
    guarded([&] {
      const InodeFile file(place_, geometry_, number);
      Node& node = nodes_[number];
      node.links = file.core().links.value();
      node.folder = file.is_folder();
      node.type = type_of(file.core().mode.value());
      quota_.note(geometry_.superblock(), number, file.core());
      const std::string who = fmt::format("inode {}", number);
      std::uint64_t blocks = 0;
      for (const bool attributes : {false, true}) {
        const std::uint64_t fork = attributes ? of_attributes : 0;
        const auto extents = file.extents(attributes, [&](std::uint64_t block) {
          own(block, 1, who, {number, fork | of_extent_tree});
          ++blocks;
        });
        if (extents.size() != file.extents_said(attributes))
          add(fmt::format("{} has {} extents, but says {}", who, extents.size(),
                          file.extents_said(attributes)));
        for (const FileExtent& extent : extents) {
          own(extent.block, extent.count, who,
              {number, fork | (extent.unwritten ? not_written : 0),
               line(extent.block) - extent.offset});
          shared_.note_owner(line(extent.block), extent.count);
          blocks += extent.count;
        }
      }
      if (blocks != file.core().blocks.value())
        add(fmt::format("{} has {} blocks, but says {}", who, blocks, file.core().blocks.value()));
      newest_.note(file.core().log_sequence.value());
      const Observer observer{[&](const std::string& what) { add(who + ": " + what); },
                              [&](std::uint64_t sequence) { newest_.note(sequence); }};
      audit_fields(geometry_, file, observer);
      if (node.folder) {
        guarded([&] {
          audit_folder(geometry_, file, observer, [&](const InodeFile::Entry& entry) {
            if (entry.name == "..") {
              node.above = entry.inode;
            } else if (entry.name != ".") {
              names_.push_back({number, entry.inode, entry.type});
              if (geometry_.is(incompatible::parent_pointers))
                note_parent(entry.inode,
                            sum_of_parent(entry.name, number, file.core().generation.value()));
            }
          });
        });
      }
      if (file.is_link()) guarded([&] { audit_link_text(place_, geometry_, file, observer); });
      guarded([&] {
        audit_attributes(place_, geometry_, file, observer,
                         [&](const std::string& name, const ParentPointer& parent) {
                           note_parent(number, 0 - sum_of_parent(name, parent.folder.value(),
                                                                 parent.generation.value()));
                         });
      });
    });
  }

  // What agrees is forgotten.
  void note_parent(std::uint64_t inode, std::uint64_t more) {
    if ((parents_[inode] += more) == 0) parents_.erase(inode);
  }

  // "Directories": what a name says its inode is, by the upper bits of its mode.
  static std::uint8_t type_of(std::uint16_t mode) {
    constexpr std::array<std::uint8_t, 16> types{0, 5, 3, 0, 2, 0, 4, 0, 1, 0, 7, 0, 6, 0, 0, 0};
    return types[mode >> 12];
  }

  void links() {
    for (const auto& [folder, child, type] : names_) {
      const auto found = nodes_.find(child);
      if (found == nodes_.end()) {
        add(fmt::format("folder {} has a name for inode {}, which is not in use", folder, child));
        continue;
      }
      ++found->second.names;
      found->second.real = folder;
      if (geometry_.is(incompatible::file_types) && type != found->second.type)
        add(fmt::format("a name in folder {} says that inode {} is something else", folder, child));
      if (found->second.folder) ++nodes_[folder].folders;
    }
    const Superblock& super = geometry_.superblock();
    const auto nameless = [&](std::uint64_t number) {
      for (const std::uint64_t own :
           {super.root_inode.value(), super.realtime_bitmap.value(), super.realtime_summary.value(),
            super.user_quota_inode.value(), super.group_quota_inode.value(),
            super.project_quota_inode.value()})
        if (number == own) return true;
      return false;
    };
    for (const auto& [number, node] : nodes_) {
      const bool own = nameless(number);
      // Deleted while it was open: its guest has not got round to it.
      if (node.links == 0 && node.names == 0 && node.folders == 0) continue;
      const std::uint32_t expected = node.folder ? 2 + node.folders : own ? 1 : node.names;
      if (node.links != expected)
        add(fmt::format("inode {} says {} links, and has {}", number, node.links, expected));
      if (node.folder && !own && node.names != 1)
        add(fmt::format("folder {} has {} names", number, node.names));
      const std::uint64_t real = number == super.root_inode.value() ? number : node.real;
      if (node.folder && node.above != real)
        add(fmt::format("folder {} says that it is in {}, and is in {}", number, node.above, real));
    }
    for (const auto& parent : parents_)
      if (complete_)
        add(fmt::format("inode {} names other folders, or other names in them, than have it",
                        parent.first));
  }

  void all_owned(std::uint32_t number) {
    const std::uint64_t base = geometry_.group_at(number) / geometry_.block_size();
    const std::uint64_t end = base + geometry_.blocks_of(number);
    std::uint64_t count = 0;
    for_each_inside(owned_, base, end,
                    [&](std::uint64_t from, std::uint64_t to) { count += to - from; });
    if (complete_ && count != end - base)
      add(fmt::format("group {}: {} blocks belong to nobody", number, end - base - count));
  }

  static std::uint64_t owner_of(Tree tree) {
    switch (tree) {
      case Tree::inodes:
      case Tree::free_inodes:
        return owner::inode_trees;
      case Tree::shared:
        return owner::shared_tree;
      default:
        return owner::group;
    }
  }

  // The reverse map says of each block who was found to own it, and of no other.
  void reverse_map() {
    if (!geometry_.has(ro_compatible::reverse_map) || !complete_) return;
    std::map<Belonging, Ranges> said;
    for (std::uint32_t number = 0; number < geometry_.groups(); ++number)
      guarded([&] {
        const std::uint64_t base = geometry_.group_at(number) / geometry_.block_size();
        Group(place_, geometry_, number)
            .walk(Tree::reverse_map, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
              for (std::size_t i = 0; i < records; ++i) {
                const auto mapping = parse_as<ReverseMapping>(data, i * sizeof(ReverseMapping));
                const std::uint64_t start = base + mapping.start.value();
                constexpr std::uint64_t all_flags = of_attributes | of_extent_tree | not_written;
                Belonging belonging{mapping.owner.value(), mapping.offset.value() & all_flags};
                const bool in_file = static_cast<std::int64_t>(belonging.owner) > 0 &&
                                     (belonging.flags & of_extent_tree) == 0;
                if (in_file) belonging.apart = start - (mapping.offset.value() & ~all_flags);
                add_range(said[belonging], start, start + mapping.count.value());
              }
            });
      });
    if (said == by_owner_) return;
    for (const auto& [who, ranges] : by_owner_)
      if (said[who] != ranges) {
        add(
            fmt::format("the reverse map has other blocks of owner {} than it has, or for other "
                        "parts of it",
                        static_cast<std::int64_t>(who.owner)));
        return;
      }
    add("the reverse map knows of owners that there are not");
  }

  template <class Work>
  void guarded(Work work) {
    try {
      work();
    } catch (const Error& error) {
      if (error.status() != Status::damaged) throw;
      complete_ = false;
      findings_.add("XFS", error.what());
    }
  }

  Store& place_;
  const Geometry& geometry_;
  NewestSequence& newest_;
  Findings& findings_;
  Progress& progress_;
  Ranges owned_;  // in blocks through all groups
  SharedBlocks shared_;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> waiting_;
  std::unordered_map<std::uint64_t, Node> nodes_;
  std::vector<Name> names_;
  // With parent pointers: what folders say of an inode, less what it says of them.
  std::unordered_map<std::uint64_t, std::uint64_t> parents_;
  std::map<Belonging, Ranges> by_owner_;  // where there is a reverse map
  QuotaCounts quota_;
  bool complete_ = true;
};

}  // namespace

void audit_content(Store& place, const Geometry& geometry, NewestSequence& newest,
                   Findings& findings, Progress& progress) {
  ContentAudit(place, geometry, newest, findings, progress).run();
}

}  // namespace jh::xfs

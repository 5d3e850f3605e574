#include "core/fs/xfs/xfs.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/ranges.h"
#include "core/fs/text_at.h"
#include "core/fs/xfs/audit.h"
#include "core/fs/xfs/grow.h"
#include "core/fs/xfs/inode.h"
#include "core/fs/xfs/quota.h"
#include "core/fs/xfs/rest.h"
#include "core/fs/xfs/shrink.h"
#include "core/fs/xfs/tree.h"

namespace jh::xfs {
namespace {

class XfsFilesystem final : public FilesystemOnDisk {
 public:
  explicit XfsFilesystem(Store& store) : place_(store), geometry_(store) {}

  const Geometry& geometry() const { return geometry_; }

  Store& store() override { return place_; }
  Bytes size() const override { return Bytes(geometry_.size()); }
  Bytes unit() const override { return Bytes(geometry_.block_size()); }
  Bytes usable(Bytes place_size) const override {
    return Bytes(plan_growth(geometry_, place_size.value()).blocks * geometry_.block_size());
  }
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override {
    const auto number = find_path(place_, geometry_, path);
    if (!number) return std::nullopt;
    const InodeFile found(place_, geometry_, *number);
    if (!found.is_file()) return std::nullopt;
    const Buffer bytes = found.read(0, std::min(found.size(), limit));
    return std::string(bytes.begin(), bytes.end());
  }
  FilesystemFloor floor() override {
    const auto [cut, reason] = Capacity(place_, geometry_).floor();
    return {Bytes(cut.blocks * geometry_.block_size()), reason};
  }

  ResizePlan plan_resize(Bytes size) override {
    if (size < this->size()) return plan_down(size);
    const Growth growth = plan_growth(geometry_, size.value());
    check_last_group(place_, geometry_, growth);
    ResizePlan plan;
    plan.from = this->size();
    plan.to = Bytes(growth.blocks * geometry_.block_size());
    const std::uint32_t fresh = growth.groups - geometry_.groups();
    plan.words = fresh == 0
                     ? "make the last allocation group longer"
                     : fmt::format("add {} allocation group{}", fresh, fresh == 1 ? "" : "s");
    plan.bytes_to_write = bytes_to_write(geometry_, growth);
    return plan;
  }
  void resize(Bytes size, Progress& progress) override {
    if (size < this->size())
      shrink(place_, geometry_,
             plan_shrinking(place_, geometry_, size.value() / geometry_.block_size()), progress);
    else
      grow(place_, geometry_, plan_growth(geometry_, size.value()), progress);
  }

  void audit(AuditScope scope, Bytes from, Findings& findings, Progress& progress) override {
    // Of what a growth has kept, all groups but the last are as they were.
    const std::uint64_t known = from.value() / (geometry_.group_blocks() * geometry_.block_size());
    const auto first =
        scope > AuditScope::structure || known == 0
            ? 0U
            : static_cast<std::uint32_t>(std::min<std::uint64_t>(known, geometry_.groups()) - 1);
    NewestSequence newest;
    audit_structure(place_, geometry_, first, newest, findings, progress);
    if (scope > AuditScope::structure) audit_content(place_, geometry_, newest, findings, progress);
    newest.compare(place_, geometry_, findings);
  }
  void audit_kept(FilesystemOnDisk& before, bool content_moves, Findings& findings) override {
    auto& old = dynamic_cast<XfsFilesystem&>(before);
    // But for sizes and counts the superblock says what it said.
    Superblock was = old.geometry_.superblock();
    const Superblock& now = geometry_.superblock();
    was.blocks = now.blocks.value();
    was.groups = now.groups.value();
    was.free_blocks = now.free_blocks.value();
    was.checksum = now.checksum.value();
    if (content_moves) {
      // Whose inodes those are is in the tree; where the log lies, in the audit.
      was.inodes = now.inodes.value();
      was.free_inodes = now.free_inodes.value();
      was.log_start = now.log_start.value();
      was.root_inode = now.root_inode.value();
      was.realtime_bitmap = now.realtime_bitmap.value();
      was.realtime_summary = now.realtime_summary.value();
      was.user_quota_inode = now.user_quota_inode.value();
      was.group_quota_inode = now.group_quota_inode.value();
      was.project_quota_inode = now.project_quota_inode.value();
      was.most_inodes_percent = std::max(was.most_inodes_percent, now.most_inodes_percent);
      if (const auto kind = changed_quota(old.place_, old.geometry_, place_, geometry_))
        findings.add("XFS", fmt::format("the limits of {} quota have changed", *kind));
    }
    if (std::memcmp(&was, &now, sizeof(was)) != 0)
      findings.add("XFS, superblock", "more than its size has changed");
  }

  std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t length) override {
    if (may_change_.empty()) note_own();
    const std::uint64_t kept = first_outside(may_change_, at, at + length);
    return kept < at + length ? std::optional(kept) : std::nullopt;
  }

  std::unique_ptr<FileTree> tree() override { return file_tree(place_, geometry_); }
  void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) override {
    for (std::uint32_t number = 0; number < geometry_.groups(); ++number) {
      const Group group(place_, geometry_, number);
      for (const FreeExtent& extent : group.free_extents()) {
        const std::uint64_t start = geometry_.block_at(number, extent.start.value());
        visit(start, start + extent.count.value() * geometry_.block_size());
      }
    }
  }

 private:
  ResizePlan plan_down(Bytes size) {
    const Shrinking shrinking =
        plan_shrinking(place_, geometry_, size.value() / geometry_.block_size());
    ResizePlan plan;
    plan.from = this->size();
    plan.to = Bytes(shrinking.cut.blocks * geometry_.block_size());
    plan.moves_content = true;
    plan.to_move = Bytes(shrinking.needed.moving * geometry_.block_size());
    const std::uint32_t gone = geometry_.groups() - shrinking.cut.groups;
    plan.words = gone == 0 ? "end the last allocation group earlier"
                           : "cut " + counted(gone, "allocation group") + " off";
    if (shrinking.needed.inodes != 0)
      plan.words +=
          fmt::format(", give {} another number", counted(shrinking.needed.inodes, "inode"));
    if (shrinking.cut.log.count != 0) plan.words += ", move the log";
    plan.notes = shrinking.notes;
    plan.bytes_to_write = bytes_to_write(geometry_, shrinking);
    return plan;
  }

  // What a growth writes to in the present filesystem: copies of the superblock, and of the last
  // group its headers, its trees of free space and the blocks that these may get.
  void note_own() {
    // Behind its end nothing is its own yet.
    add_range(may_change_, geometry_.size(), UINT64_MAX);
    const std::uint64_t sector = geometry_.sector_size();
    for (std::uint32_t group = 0; group < geometry_.groups(); ++group)
      add_range(may_change_, geometry_.group_at(group), geometry_.group_at(group) + sector);
    const std::uint32_t last = geometry_.groups() - 1;
    const Group group(place_, geometry_, last);
    add_range(may_change_, geometry_.header_at(last, 1), geometry_.header_at(last, 3));
    const auto block = [&](std::uint32_t number) {
      const std::uint64_t start = geometry_.block_at(last, number);
      add_range(may_change_, start, start + geometry_.block_size());
    };
    for (const Tree tree : {Tree::by_block, Tree::by_size})
      group.walk(
          tree, [](std::uint32_t, ConstByteSpan, std::size_t) {},
          [&](std::uint32_t number, const TreeHeader&) { block(number); });
    for (const std::uint32_t number : group.free_list()) block(number);
  }

  Store& place_;
  Geometry geometry_;
  Ranges may_change_;
};

bool recognise(Store& place) { return holds(place, 0, "XFSB"); }

// When the guest lost power: as its log makes it, in memory.
void replay_in_memory(Store& place, const Geometry& geometry, OpenedFilesystem& found) {
  found.facts.state = "clean";
  switch (rest_of(place, geometry)) {
    case Rest::clean:
      return;
    case Rest::deletions:
      found.facts.state = "clean; files deleted while open are left to the guest's start";
      return;
    case Rest::dirty:
      break;
  }
  found.facts.state = "needs log replay";
  found.at_rest = std::make_unique<ScratchStore>(place);
  const RestReport report = bring_to_rest(*found.at_rest);
  found.replay = {report.text(), "replay the log: " + report.text(), found.at_rest->changed()};
}

std::uint64_t claimed_size(Store& place) {
  const auto super = read_as<Superblock>(place, 0);
  return checked_mul(super.blocks.value(), super.block_size.value());
}

void read_names(Store& place, LayerFacts& facts) {
  facts.name = "XFS";
  facts.label = text_at(place, offsetof(Superblock, label), 12);
  facts.uuid = uuid_text(read_as<Superblock>(place, 0).uuid);
}

OpenedFilesystem open(Store& place) {
  OpenedFilesystem found;
  LayerFacts& facts = found.facts;
  read_names(place, facts);
  facts.state = "not looked into";
  try {
    const Geometry unreplayed(place);
    try {
      replay_in_memory(place, unreplayed, found);
    } catch (const Error& error) {
      found.at_rest.reset();
      facts.state = "needs log replay";
      facts.blockers.push_back(error.with_reason(Reason::not_unmounted));
    }
    Store& seen = found.at_rest ? static_cast<Store&>(*found.at_rest) : place;
    auto opened = std::make_unique<XfsFilesystem>(seen);
    const Geometry& geometry = opened->geometry();
    facts.size = opened->size();
    std::uint64_t free = 0;
    for (std::uint32_t group = 0; group < geometry.groups(); ++group)
      free += Group(seen, geometry, group).free_space().free_blocks.value();
    facts.used =
        Bytes((geometry.blocks() - std::min(geometry.blocks(), free)) * geometry.block_size());
    found.filesystem = std::move(opened);
  } catch (const Error& error) {
    // What is not known here its guest knows: the place can grow, and the plan says what is left to
    // do.
    if (error.status() == Status::unsupported) {
      facts.state = error.what();
      return found;
    }
    facts.state = error.status() == Status::damaged ? "damaged" : "left alone";
    facts.blockers.push_back(error);
  }
  return found;
}

FilesystemKind make_kind() {
  auto made = audited_kind<XfsFilesystem>("XFS", recognise, open, claimed_size);
  made.resizable = made.holds_files = true;
  made.while_mounted = read_names;
  made.replay_journal = [](Store& place) { bring_to_rest(place); };
  return made;
}

}  // namespace

const FilesystemKind kind = make_kind();

}  // namespace jh::xfs

#include "core/fs/btrfs/btrfs.h"

#include <fmt/format.h>

#include <set>

#include "core/base/ranges.h"
#include "core/fs/btrfs/audit.h"
#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/files.h"
#include "core/fs/btrfs/resize.h"
#include "core/fs/btrfs/tree.h"
#include "core/fs/text_at.h"

namespace jh::btrfs {
namespace {

std::string words_of(const Shrinking& shrinking) {
  if (shrinking.emptied.empty() && shrinking.copies.empty()) return "nothing has to move";
  std::string words;
  if (!shrinking.emptied.empty())
    words = counted(shrinking.emptied.size(), "chunk") + " emptied into others";
  if (!shrinking.copies.empty()) {
    std::set<std::uint64_t> chunks;
    for (const ChunkMove& move : shrinking.copies) chunks.insert(move.chunk);
    words += (words.empty() ? "" : ", ") + counted(chunks.size(), "chunk") + " moved to the front";
  }
  return words;
}

class BtrfsFilesystem final : public FilesystemOnDisk {
 public:
  explicit BtrfsFilesystem(Store& place) : place_(place), volume_(place) {}

  const Volume& volume() const { return volume_; }

  Store& store() override { return place_; }
  Bytes size() const override { return Bytes(volume_.size()); }
  Bytes unit() const override { return Bytes(volume_.sector_size()); }
  Bytes usable(Bytes place_size) const override {
    return Bytes(round_down(place_size.value(), volume_.sector_size()));
  }
  std::optional<std::string> read_text(const std::string& path, std::uint64_t limit) override {
    for (const std::uint64_t root : likely_roots(volume_))
      if (auto text = read_file(volume_, root, path, limit)) return text;
    return std::nullopt;
  }
  FilesystemFloor floor() override {
    return {Bytes(Layout(volume_).least()), "what its chunks hold; each stays as long as it is"};
  }

  ResizePlan plan_resize(Bytes size) override {
    ResizePlan plan;
    plan.from = this->size();
    plan.to = Bytes(round_down(size.value(), volume_.sector_size()));
    if (plan.to >= plan.from) {
      plan.words = "lengthen the device";
      plan.bytes_to_write = btrfs::bytes_to_write(volume_, nullptr);
      return plan;
    }
    const Shrinking shrinking = planned(plan.to.value());
    plan.moves_content = true;
    plan.to_move = Bytes(shrinking.to_move);
    plan.words = "end the device earlier; " + words_of(shrinking);
    plan.bytes_to_write = btrfs::bytes_to_write(volume_, &shrinking);
    return plan;
  }
  void resize(Bytes size, Progress& progress) override {
    if (size >= this->size())
      grow(volume_, size.value());
    else
      shrink(volume_, planned(size.value()), progress);
  }

  void audit(AuditScope scope, Bytes, Findings& findings, Progress& progress) override {
    audit_structure(volume_, findings);
    if (scope <= AuditScope::structure) return;
    audit_trees(volume_, findings, progress);
    audit_files(volume_, findings, progress);
    if (scope == AuditScope::content) audit_content(volume_, findings, progress);
  }
  void audit_kept(FilesystemOnDisk& before, bool content_moves, Findings& findings) override {
    btrfs::audit_kept(dynamic_cast<BtrfsFilesystem&>(before).volume_, volume_, content_moves,
                      findings);
  }

  std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t length) override {
    if (may_change_.empty()) note_own();
    const std::uint64_t kept = first_outside(may_change_, at, at + length);
    return kept < at + length ? std::optional(kept) : std::nullopt;
  }
  void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) override {
    for (const auto& [from, to] : free_on_device(volume_)) visit(from, to);
  }
  std::string free_words(const std::string& name) const override {
    return "what no extent takes of " + name;
  }
  std::unique_ptr<FileTree> tree() override { return file_tree(volume_); }

 private:
  Shrinking planned(std::uint64_t size) {
    const Layout layout(volume_);
    if (auto plan = layout.plan(size)) return *plan;
    const Bytes least(layout.least());
    refuse(fmt::format("its chunks do not fit in front of {}", human(Bytes(size))), "btrfs",
           fmt::format("choose {} or more", human(least)));
  }

  // What a growth writes to: superblocks, and the blocks with the device's size.
  void note_own() {
    may_change_ = device_item_places(volume_);
    for (const std::uint64_t at : superblock_places)
      add_range(may_change_, at, at + sizeof(Superblock));
    for (const auto& [from, to] : free_on_device(volume_)) add_range(may_change_, from, to);
    add_range(may_change_, volume_.size(), UINT64_MAX);
  }

  Store& place_;
  Volume volume_;
  Ranges may_change_;
};

// What was begun, and only its guest can finish.
void find_unfinished(const Volume& volume, LayerFacts& facts) {
  const auto block = [&](const std::string& what, const std::string& next, Reason reason) {
    facts.blockers.push_back(Error(Status::refused, what, "btrfs", next).with_reason(reason));
  };
  constexpr const char* start = "start the guest and shut it down properly, then run again";
  if ((volume.super().flags.value() & super_flag::errors) != 0) {
    facts.state = "to be checked";
    block("the guest has noted errors in it", "let the guest check it first", Reason::errors_noted);
  }
  if (volume.super().log_root.value() != 0) {
    facts.state = "needs log replay";
    block("the filesystem was not cleanly unmounted, and its log tree has to be replayed", start,
          Reason::not_unmounted);
  }
  bool balance = false;
  bool relocation = false;
  for_each_item(volume, volume.root_tree(), {}, {}, [&](const Key& key, ConstByteSpan) {
    balance = balance || (key.object == object::balance && key.type == item::temporary);
    relocation = relocation || (key.object == object::relocation && key.type == item::root);
  });
  if (balance || relocation) {
    facts.state = "unfinished balance";
    block("a balance was begun and not finished",
          "let the guest finish or cancel it, and shut it down", Reason::not_unmounted);
  }
  if (const auto root = volume.tree(object::device_tree))
    for_each_item(volume, *root, {0, item::replace, 0}, {0, item::replace, 0},
                  [&](const Key&, ConstByteSpan data) {
                    constexpr std::size_t state_at = 24;
                    constexpr std::uint64_t started = 1;
                    constexpr std::uint64_t suspended = 4;
                    if (data.size() < state_at + 8) return;
                    const std::uint64_t state = parse_as<Le64>(data, state_at).value();
                    if (state != started && state != suspended) return;
                    facts.state = "device being replaced";
                    block("its device is being replaced", "let the guest finish it",
                          Reason::not_unmounted);
                  });
}

// Of this device, however many there are.
std::uint64_t claimed_size(Store& place) {
  return read_as<Superblock>(place, superblock_places[0]).device.size.value();
}

void read_names(Store& place, LayerFacts& facts) {
  facts.name = "btrfs";
  facts.label = text_at(place, superblock_places[0] + offsetof(Superblock, label), 255);
  facts.uuid = uuid_text(read_as<Superblock>(place, superblock_places[0]).uuid);
}

OpenedFilesystem open(Store& place) {
  OpenedFilesystem found;
  LayerFacts& facts = found.facts;
  facts.name = "btrfs";
  facts.state = "clean";
  try {
    read_names(place, facts);
    auto opened = std::make_unique<BtrfsFilesystem>(place);
    const Volume& volume = opened->volume();
    facts.size = opened->size();
    // What is in no chunk, but not free either, counts as used.
    std::uint64_t used = std::min(first_usable, volume.size());
    for (const std::uint64_t at : superblock_places)
      if (at >= first_usable && at < volume.size())
        used += std::min(superblock_room, volume.size() - at);
    for_each_block_group(volume, [&](const BlockGroup& group) {
      const auto [start, chunk] = volume.chunk_of(group.start, 1);
      used += std::min(group.used, group.length) * chunk->copies.size();
    });
    facts.used = Bytes(std::min(used, volume.size()));
    find_unfinished(volume, facts);
    found.filesystem = std::move(opened);
  } catch (const Error& error) {
    // What is not known here its guest knows: the place can grow, and the plan says what is left to
    // do.
    facts.state = error.status() == Status::unsupported ? error.what()
                  : error.status() == Status::damaged   ? "damaged"
                                                        : "left alone";
    if (error.status() != Status::unsupported) facts.blockers.push_back(error);
  }
  return found;
}

FilesystemKind make_kind() {
  auto made = audited_kind<BtrfsFilesystem>("btrfs", Volume::recognise, open, claimed_size);
  made.resizable = made.holds_files = true;
  made.while_mounted = read_names;
  return made;
}

}  // namespace

const FilesystemKind kind = make_kind();

}  // namespace jh::btrfs

#include "core/staged/file_set.h"

#include "core/staged/old_room.h"

namespace jh {
namespace {

// Whether the file may become longer before the seal: only where the form's own tables say what of
// it is in use, so that nobody who opens the image meanwhile is misled.
Stage::Tail tail_of(const Disk& disk, const std::string& file) {
  const ContainerFacts facts = disk.container->facts();
  switch (facts.format) {
    case ImageFormat::raw:
    case ImageFormat::vhd:
      return Stage::Tail::held;
    case ImageFormat::qcow2:
    case ImageFormat::vdi:
    case ImageFormat::vhdx:
      return Stage::Tail::direct;
    case ImageFormat::vmdk:
      break;
  }
  const bool descriptor_alone = file == disk.path && !facts.parts.empty();
  return descriptor_alone || facts.allocation == Allocation::full ? Stage::Tail::held
                                                                  : Stage::Tail::direct;
}

// Only what moves content goes to free room inside filesystems.
UnusedWhere where_to_look(const Plan& plan) {
  bool moves = plan.has<step::PrepareContent>() || plan.has<step::MoveExtents>() ||
               plan.has<step::MovePartition>();
  plan.for_each<step::ShrinkContent>(
      [&](const Step&, const step::ShrinkContent& work) { moves = moves || work.moves_content; });
  return moves ? UnusedWhere::everywhere : UnusedWhere::outside_of_filesystems;
}

}  // namespace

FileSet::FileSet(Host& host, const Guest& before, const Plan& plan)
    : others_(host), staged_(&others_), old_resolver_(&others_), main_(before.disks().size()) {
  std::vector<std::string> paths;
  std::vector<Stage::Tail> tails;
  const auto add = [&](const std::string& path, bool fresh, Stage::Tail tail) {
    // An empty file may be left from a change that was cut off before it began.
    if (fresh && host.exists(path)) {
      if (host.open(path, Access::read_only)->size() != 0)
        refuse("a file that the disk would need is there already", path, "move it away");
      host.remove(path);
    }
    files_.push_back(fresh ? host.create(path) : host.open(path, Access::read_write));
    paths.push_back(path);
    tails.push_back(tail);
    if (fresh) host.copy_owner_and_mode(path, before.disks().front().path);
    return paths.size() - 1;
  };
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    const Disk& disk = before.disks()[i];
    if (disk.added) continue;
    for (const std::string& file : files_of(disk)) {
      const std::size_t index = add(file, false, tail_of(disk, file));
      if (file == disk.path) main_[i] = index;
    }
  }
  // What a change makes comes last: it is no part of the old state.
  const std::size_t there = paths.size();
  try {
    for (std::size_t i = 0; i < before.disks().size(); ++i) {
      const Disk& disk = before.disks()[i];
      if (disk.added) {
        main_[i] = add(disk.path, true, Stage::Tail::direct);
        for (const std::string& part : plan.disks[i].new_parts)
          add(part, true, Stage::Tail::direct);
      } else if (plan.disks[i].to > plan.disks[i].from) {
        for (const std::string& part : disk.container->new_parts(plan.disks[i].to))
          add(part, true, Stage::Tail::direct);
      }
    }
    begin(host, paths, tails, paths.size() - there);
    for (std::size_t i = 0; i < before.disks().size(); ++i)
      if (!before.disks()[i].added) note_descriptor(before.disks()[i], main_[i]);
    auto layers = unreferenced_places(before, where_to_look(plan));
    for (std::size_t i = 0; i < there; ++i)
      transaction_->stage(i).allow_direct(std::move(layers[paths[i]]));
  } catch (const Error&) {
    // No ledger knows of them yet.
    for (std::size_t i = there; i < paths.size(); ++i) remove_quietly(host, paths[i]);
    throw;
  }
}

FileSet::FileSet(Host& host, const Disk& disk)
    : others_(host), staged_(&others_), old_resolver_(&others_), main_{0} {
  const std::vector<std::string> paths = files_of(disk);
  std::vector<Stage::Tail> tails;
  for (const std::string& path : paths) {
    files_.push_back(host.open(path, Access::read_write));
    tails.push_back(tail_of(disk, path));
  }
  begin(host, paths, tails, 0);
  note_descriptor(disk, 0);
}

void FileSet::note_descriptor(const Disk& disk, std::size_t index) {
  if (!disk.container->facts().parts.empty()) transaction_->stage(index).leave_front_open();
}

void FileSet::begin(Host& host, const std::vector<std::string>& paths,
                    const std::vector<Stage::Tail>& tails, std::size_t created) {
  std::vector<Store*> stores;
  for (const auto& file : files_) stores.push_back(file.get());
  transaction_ = std::make_unique<Transaction>(host, paths, stores, created);
  for (std::size_t i = 0; i < paths.size(); ++i) {
    transaction_->stage(i).set_tail(tails[i]);
    staged_.add(paths[i], transaction_->stage(i));
    old_.push_back(std::make_unique<OldState>(transaction_->stage(i)));
    old_resolver_.add(paths[i], *old_.back());
  }
}

std::vector<Stage*> FileSet::stages() {
  std::vector<Stage*> all;
  for (std::size_t i = 0; i < files_.size(); ++i) all.push_back(&transaction_->stage(i));
  return all;
}

}  // namespace jh

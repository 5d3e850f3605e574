#include "core/change/file_set.h"

namespace jh {

FileSet::FileSet(Host& host, const Guest& before, const Plan& plan)
    : others_(host), staged_(&others_), old_beside_(&others_), main_(before.disks().size()) {
  std::vector<std::string> paths;
  const auto add = [&](const std::string& path, bool fresh) {
    // An empty file may be left from a change that was cut off before it began.
    if (fresh && host.exists(path)) {
      if (host.open(path, Access::read_only)->size() != 0)
        refuse("a file that the disk would need is there already", path, "move it away");
      host.remove(path);
    }
    files_.push_back(fresh ? host.create(path) : host.open(path, Access::read_write));
    paths.push_back(path);
    if (fresh) host.take_after(path, before.disks().front().path);
    return paths.size() - 1;
  };
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    const Disk& disk = before.disks()[i];
    if (disk.added) continue;
    for (const std::string& file : files_of(disk)) {
      const std::size_t index = add(file, false);
      if (file == disk.path) main_[i] = index;
    }
  }
  // What a change makes comes last: it is no part of the old state.
  const std::size_t there = paths.size();
  try {
    for (std::size_t i = 0; i < before.disks().size(); ++i) {
      const Disk& disk = before.disks()[i];
      if (disk.added) {
        main_[i] = add(disk.path, true);
        for (const std::string& part : plan.disks[i].new_parts) add(part, true);
      } else if (plan.disks[i].to > plan.disks[i].from) {
        for (const std::string& part : disk.container->new_parts(plan.disks[i].to)) add(part, true);
      }
    }
    begin(host, paths, paths.size() - there);
  } catch (const Error&) {
    // No ledger knows of them yet.
    for (std::size_t i = there; i < paths.size(); ++i) remove_quietly(host, paths[i]);
    throw;
  }
}

FileSet::FileSet(Host& host, const Disk& disk)
    : others_(host), staged_(&others_), old_beside_(&others_), main_{0} {
  const std::vector<std::string> paths = files_of(disk);
  for (const std::string& path : paths) files_.push_back(host.open(path, Access::read_write));
  begin(host, paths, 0);
}

void FileSet::begin(Host& host, const std::vector<std::string>& paths, std::size_t created) {
  std::vector<Store*> stores;
  for (const auto& file : files_) stores.push_back(file.get());
  transaction_ = std::make_unique<Transaction>(host, paths, stores, created);
  for (std::size_t i = 0; i < paths.size(); ++i) {
    staged_.add(paths[i], transaction_->stage(i));
    old_.push_back(std::make_unique<OldState>(transaction_->stage(i)));
    old_beside_.add(paths[i], *old_.back());
  }
}

std::vector<Stage*> FileSet::stages() {
  std::vector<Stage*> all;
  for (std::size_t i = 0; i < files_.size(); ++i) all.push_back(&transaction_->stage(i));
  return all;
}

}  // namespace jh

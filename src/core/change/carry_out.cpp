#include "core/change/carry_out.h"

#include <fmt/format.h>

#include "core/change/proof.h"
#include "core/fs/ext/relocate.h"
#include "core/fs/ext/rest.h"
#include "core/store/transaction.h"

namespace jh {
namespace {

// Steps on one disk, on its stage.
class DiskWorker {
 public:
  DiskWorker(Stage& stage, std::uint32_t sector_size)
      : stage_(stage), sector_size_(sector_size), container_(open_container(stage)) {
    open_table_again();
  }

  void run(const Step& step) {
    switch (step.kind) {
      case StepKind::grow_container:
        container_->grow(step.to);
        break;
      case StepKind::repair_table:
        if (!table_->must_move_spare()) table_->repair(container_->disk());
        break;
      case StepKind::move_spare:
        table_->cover_disk(container_->disk());
        break;
      case StepKind::grow_partition:
        table_->cover_disk(container_->disk());
        table_->move_end(container_->disk(), step.partition, step.new_end);
        break;
      case StepKind::settle_ext: {
        WindowStore window = place(step.partition);
        ext::bring_to_rest(window);
        break;
      }
      case StepKind::clear_way: {
        WindowStore window = place(step.partition);
        ext::Filesystem fs(window);
        ext::clear_table_way(fs, ext::plan_grow(fs, step.new_blocks));
        break;
      }
      case StepKind::grow_ext: {
        WindowStore window = place(step.partition);
        ext::Filesystem fs(window);
        const auto growth = ext::plan_grow(fs, step.new_blocks);
        ensure(growth.after.blocks * growth.after.block_size == step.to.value(),
               "the filesystem grows as planned");
        ext::grow(fs, growth);
        break;
      }
    }
  }

 private:
  void open_table_again() { table_ = open_table(container_->disk(), sector_size_); }

  WindowStore place(std::uint32_t partition) {
    Store& disk = container_->disk();
    if (partition == 0) return {disk, 0, disk.size(), disk.name()};
    open_table_again();  // from the stage, as it will be on disk
    const Partition* found = table_->find(partition);
    ensure(found != nullptr, "the partition is in the staged table");
    return {disk, to_bytes(found->first, sector_size_).value(),
            to_bytes(found->count, sector_size_).value(),
            fmt::format("{}, partition {}", stage_.name(), partition)};
  }

  Stage& stage_;
  std::uint32_t sector_size_;
  std::unique_ptr<Container> container_;
  std::unique_ptr<PartitionTable> table_;
};

}  // namespace

void check_host_room(Host& host, const Plan& plan) {
  for (const DiskChange& disk : plan.disks) {
    const std::uint64_t free = host.free_space(disk.path);
    if (plan.bytes_to_write <= free) continue;
    refuse(fmt::format("the host has only {} free, and up to {} must be written",
                       human(Bytes(free)), human(Bytes(plan.bytes_to_write))),
           disk.path, "make room on the host's filesystem, then run again");
  }
}

ChangeResult carry_out(Host& host, const Guest& before, const Plan& plan,
                       const GrowRequest& request, Progress& progress) {
  check_host_room(host, plan);
  check_sound(before, plan, progress);
  std::vector<std::unique_ptr<Store>> files;
  std::vector<Store*> stores;
  std::vector<std::string> paths;
  for (const Disk& disk : before.disks()) {
    files.push_back(host.open(disk.path, Access::read_write));
    stores.push_back(files.back().get());
    paths.push_back(disk.path);
  }
  Transaction transaction(host, paths, stores);
  for (std::size_t i = 0; i < before.disks().size(); ++i) {
    if (!plan.touches(i)) continue;
    const Disk& disk = before.disks()[i];
    DiskWorker worker(transaction.stage(i), disk.table ? disk.table->facts().sector_size : 0);
    for (const Step& step : plan.steps) {
      progress.begin(step.layer + ": " + step.action, 0);
      if (step.disk == i) worker.run(step);
      progress.end();
    }
  }
  for (std::size_t i = 0; i < stores.size(); ++i) transaction.stage(i).begin_flush();
  prove(before, plan, transaction, request.proof, progress);
  ChangeResult result;
  for (std::size_t i = 0; i < stores.size(); ++i)
    result.written_directly += transaction.stage(i).written_directly();
  transaction.seal(progress, request.keep_undo);
  result.ledger_bytes = transaction.ledger_bytes();
  return result;
}

}  // namespace jh

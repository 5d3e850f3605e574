#include "core/change/carry_out.h"

#include <fmt/format.h>

#include "core/change/proof.h"
#include "core/change/worker.h"
#include "core/store/transaction.h"

namespace jh {
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
  std::size_t created = 0;
  for (const Disk& disk : before.disks()) {
    if (disk.added) {
      ++created;
      // An empty file may be left from a change that was cut off before it began.
      if (host.exists(disk.path)) host.remove(disk.path);
    }
    files.push_back(disk.added ? host.create(disk.path) : host.open(disk.path, Access::read_write));
    if (disk.added) host.take_after(disk.path, before.disks().front().path);
    stores.push_back(files.back().get());
    paths.push_back(disk.path);
  }
  Transaction transaction(host, paths, stores, created);
  {
    Worker worker(before, plan, transaction);
    for (const Step& step : plan.steps) {
      progress.begin(step.layer + ": " + step.action, 0);
      worker.run(step);
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

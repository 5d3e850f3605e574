#include "core/change/carry_out.h"

#include <fmt/format.h>

#include <ctime>

#include "core/carry/worker.h"
#include "core/proof/proof.h"
#include "core/staged/file_set.h"

namespace jh {

void check_host_room(Host& host, const Plan& plan, Sharing sharing) {
  // Content that moves is counted in the image and in what an undo keeps, and takes nothing where
  // both can share the blocks that it has. Where that fails on the way, the change ends unsealed.
  for (const DiskChange& disk : plan.disks) {
    const std::uint64_t free = host.free_space(disk.path);
    if (plan.bytes_to_write <= free) continue;
    if (sharing == Sharing::automatic && plan.bytes_to_write - plan.of_content <= free &&
        host.can_share(disk.path, host.ledger_path(disk.path)))
      continue;
    refuse(fmt::format("the host has only {} free, and up to {} must be written",
                       human(Bytes(free)), human(Bytes(plan.bytes_to_write))),
           disk.path, "make room on the host's filesystem, then run again");
  }
}

namespace {

ChangeResult carry_out_steps(Host& host, const Guest& before, const Plan& plan,
                             const ChangeOptions& request, Progress& progress,
                             const BeforeProof& before_proof) {
  check_host_room(host, plan, request.sharing);
  check_sound(before, plan, progress);
  FileSet files(host, before, plan);
  files.transaction().set_sharing(request.sharing);
  {
    Worker worker(before, plan, files, static_cast<std::uint64_t>(std::time(nullptr)));
    for (const Step& step : plan.steps) {
      progress.begin(step.name + ": " + step.action, step.to_move);
      worker.run(step, progress);
      progress.end();
    }
  }
  for (Stage* stage : files.stages()) stage->begin_flush();
  if (before_proof) before_proof(files);
  ChangeResult result;
  result.evidence = prove(before, plan, files, request.proof, progress);
  Transaction& transaction = files.transaction();
  for (Stage* stage : files.stages()) {
    result.moved_by_sharing += stage->shared();
    result.written_directly += stage->written_directly() - stage->shared();
  }
  transaction.seal(progress, request.keep_undo);
  result.ledger_bytes = transaction.ledger_bytes();
  return result;
}

// The change is sealed by now: whatever happens here must not be taken for a failure of it.
void remove_let_go(Host& host, const std::string& path) {
  try {
    host.remove(path);
  } catch (const Error& error) {
    throw Error(Status::io,
                fmt::format("the change is done, but a file that it no longer needs is still "
                            "there: {}",
                            error.what()),
                path, "remove it by hand")
        .with_outcome(Outcome::done);
  }
}

}  // namespace

ChangeResult carry_out(Host& host, const Guest& before, const Plan& plan,
                       const ChangeOptions& request, Progress& progress,
                       const BeforeProof& before_proof) {
  const ChangeResult result = telling_outcome(host, before.disks().front().path, [&] {
    return carry_out_steps(host, before, plan, request, progress, before_proof);
  });
  if (!request.keep_undo)
    for (const DiskChange& disk : plan.disks)
      for (const std::string& path : disk.let_go) remove_let_go(host, path);
  return result;
}

}  // namespace jh

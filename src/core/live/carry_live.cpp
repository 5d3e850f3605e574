#include "core/live/carry_live.h"

#include <fmt/format.h>

#include <algorithm>
#include <ctime>
#include <map>
#include <set>

#include "core/base/uuid.h"
#include "core/carry/group_work.h"

namespace jh::live {
namespace {

class LiveWorker {
 public:
  LiveWorker(const LiveWork& work, const Notes& notes, const LookAgain& look_again,
             Progress& progress)
      : kernel_(work.kernel),
        before_(work.before),
        guest_(before_.guest()),
        plan_(work.plan),
        new_disks_(work.new_disks),
        notes_(notes),
        look_again_(look_again),
        progress_(progress) {}

  void run(const Step& step) {
    std::visit([&](const auto& work) { carry_out(step, work); }, step.work);
  }

 private:
  Kernel& kernel() const { return kernel_; }

  // On tables. What is written is on the disk when the store's write returns.
  template <class Work>
  void on_table(const Step& step, Work work) {
    const std::size_t index = step.layer.disk;
    const auto store = kernel().open_to_change(before_.disk(index).path);
    const auto table = open_table(*store, sector_size(index));
    ensure(table != nullptr, "the disk has a table");
    work(*store, *table);
    store->flush();
  }
  std::uint32_t sector_size(std::size_t index) const {
    const Disk& disk = guest_.disks()[index];
    return disk.table ? disk.table->facts().sector_size : disk.sector_size;
  }

  // Null: the disk was there before.
  const NewDisk* new_disk(const Step& step) const {
    for (const NewDisk& disk : new_disks_)
      if (disk.path == before_.disk(step.layer.disk).path) return &disk;
    return nullptr;
  }
  // Exactly what the note says: so a run that is cut off here can be told from anything else.
  void write_new(const NewDisk& disk, const NewDisk::Sectors& sectors) {
    const auto store = kernel().open_to_change(disk.path);
    write_sectors(*store, sectors);
  }

  void carry_out(const Step& step, const step::CreateDisk&) {
    const NewDisk* fresh = new_disk(step);
    ensure(fresh != nullptr, "what is written on a new disk is known before");
    write_new(*fresh, fresh->table);
  }
  void carry_out(const Step& step, const step::RepairTable&) {
    on_table(step, [](Store& store, PartitionTable& table) {
      if (!table.must_move_spare()) table.repair(store);
    });
  }
  void carry_out(const Step& step, const step::MoveSpare&) {
    on_table(step, [](Store& store, PartitionTable& table) { table.cover_disk(store); });
  }
  void carry_out(const Step& step, const step::GrowPartition& work) {
    on_table(step, [&](Store& store, PartitionTable& table) {
      table.cover_disk(store);
      const Partition* partition = table.find(step.layer.number());
      ensure(partition != nullptr && work.end > partition->end(), "a partition becomes longer");
      table.move_end(store, step.layer.number(), work.end);
    });
  }
  void carry_out(const Step& step, const step::CreatePartition& work) {
    if (const NewDisk* fresh = new_disk(step)) return write_new(*fresh, fresh->whole);
    on_table(step, [&](Store& store, PartitionTable& table) {
      table.cover_disk(store);
      table.create(store, work.partition, random_guid());
    });
  }
  void carry_out(const Step& step, const step::TellPartition& work) {
    const std::size_t index = step.layer.disk;
    const auto system = look_again_();
    const PartitionTable* table = system->guest().disks()[index].table.get();
    const Partition* partition = table == nullptr ? nullptr : table->find(step.layer.number());
    ensure(partition != nullptr, "the partition is in the table");
    const std::uint64_t start = to_bytes(partition->first, table->facts().sector_size).value();
    // A run that was cut off may have told it already.
    const KernelDisk& disk = system->disk(index);
    for (const KernelPartition& known : disk.partitions)
      if (known.number == step.layer.number() && known.start == start &&
          known.size == step.to.value())
        return;
    if (work.created)
      kernel().add_partition(disk, step.layer.number(), start, step.to.value());
    else
      kernel().lengthen_partition(disk, step.layer.number(), start, step.to.value());
    const auto now = look_again_();
    const KernelPartition* known = now->partition(index, step.layer.number());
    if (known == nullptr || known->start != start || known->size != step.to.value())
      differs(step, known == nullptr ? Bytes(0) : Bytes(known->size));
  }

  // In groups.
  GroupWork& group(const std::string& name) {
    auto& work = groups_[name];
    if (work) return *work;
    const VolumeGroup* found = guest_.group_named(name);
    ensure(found != nullptr, "the group is there");
    work = std::make_unique<GroupWork>(
        *found, guest_, plan_, static_cast<std::uint64_t>(std::time(nullptr)),
        [this](const LayerId& where) { return kernel().open_to_change(node_of(where)); });
    return *work;
  }
  GroupWork& group_of(const LayerId& where) {
    if (!where.volume.empty()) return group(where.volume.substr(0, where.volume.rfind('/')));
    std::size_t pv = 0;
    const VolumeGroup* found = guest_.group_on(*guest_.find(where), pv);
    ensure(found != nullptr, "a physical volume lies there");
    return group(found->open.group.name);
  }
  // Of what was there before, or was made since.
  std::string node_of(const LayerId& where) const {
    if (const Layer* layer = guest_.find(where))
      if (std::string path = before_.path_of(*layer); !path.empty()) return path;
    for (const KernelDisk& disk : kernel().disks())
      if (disk.device == before_.disk(where.disk).device)
        for (const KernelPartition& partition : disk.partitions)
          if (partition.number == where.number()) return partition.path;
    io_failed("the kernel has no device for a new partition", before_.disk(where.disk).path,
              "run this again");
  }
  void carry_out(const Step& step, const step::GrowPhysicalVolume& work) {
    group_of(step.layer).run(step, work);
  }
  void carry_out(const Step& step, const step::AddDevice& work) {
    group(work.group).run(step, work);
  }
  void carry_out(const Step& step, const step::GrowVolume& work) {
    group_of(step.layer).run(step, work);
  }
  void carry_out(const Step& step, const step::CommitGroup& work) {
    group(work.group).run(step, work);
    const auto now = look_again_();
    const VolumeGroup* found = now->guest().group_named(work.group);
    const Bytes size =
        found == nullptr ? Bytes(0) : found->bytes(found->open.group.total_extents());
    if (size != step.to) differs(step, size);
  }
  void carry_out(const Step& step, const step::LoadVolume&) {
    const auto system = look_again_();
    const Layer& layer = *system->guest().find(step.layer);
    const VolumeGroup& found = system->guest().group_of(layer);
    const lvm::Volume& volume = system->guest().volume_of(layer);
    const MappedDevice* device = system->mapped(found, volume);
    ensure(device != nullptr, "the volume is active");
    const auto numbers = system->devices_of(found);
    if (!numbers)
      io_failed("a physical volume of the group is not there any more", step.name,
                "look into the system's log; then run this again");
    const std::vector<MapLine> table = map_for(found.open.group, volume, *numbers);
    kernel().replace_map(*device, table);
    const auto now = look_again_();
    const MappedDevice* then = now->mapped(found, volume);
    if (then == nullptr || then->suspended || then->size != step.to.value() ||
        kernel().map_of(*then) != table)
      differs(step, then == nullptr ? Bytes(0) : Bytes(then->size));
  }

  // Inside a place.
  void carry_out(const Step& step, const step::GrowContent& work) {
    const auto system = look_again_();
    const Layer& layer = *system->guest().find(step.layer);
    if (layer.content.moves_without_free()) {
      grow_swap(*system, layer, work.size);
    } else {
      const Mount* mount = system->mount_of(layer);
      ensure(layer.content.filesystem() != nullptr && mount != nullptr,
             "the filesystem is mounted");
      kernel().grow(*mount, work.size.value());
    }
    const auto now = look_again_();
    const Layer& then = *now->guest().find(step.layer);
    const Bytes size = then.content.size.value_or(Bytes(0));
    // A driver may leave out a last group that is too small for its own metadata.
    constexpr std::uint64_t group = 1U << 30;
    if (size <= step.from || size > step.to || (step.to - size).value() >= group)
      differs(step, size);
  }
  // Taken out of use, written anew with its identity, and put back: also when that fails.
  void grow_swap(const RunningSystem& system, const Layer& layer, Bytes size) {
    const SwapInUse* in_use = system.swap_of(layer);
    const std::string node = system.path_of(layer);
    if (in_use != nullptr) {
      notes_.put(swap_note, fmt::format("{} {}", in_use->path, in_use->priority));
      kernel().swap_off(in_use->path);
    }
    std::exception_ptr failed;
    try {
      const auto store = kernel().open_to_change(node);
      layer.content.filesystem_kind()->open_to_change(*store)->resize(size, progress_);
      store->flush();
    } catch (...) {
      failed = std::current_exception();
    }
    if (in_use != nullptr) {
      kernel().swap_on(in_use->path, in_use->priority);
      notes_.remove(swap_note);
    }
    if (failed) std::rethrow_exception(failed);
  }

  // What no running system could bear, or has no need of: it is never planned for one.
  void carry_out(const Step&, const step::RecoverContainer&) { not_live(); }
  void carry_out(const Step&, const step::GrowContainer&) { not_live(); }
  void carry_out(const Step&, const step::ShrinkContainer&) { not_live(); }
  void carry_out(const Step&, const step::ShrinkPartition&) { not_live(); }
  void carry_out(const Step&, const step::MovePartition&) { not_live(); }
  void carry_out(const Step&, const step::MoveExtended&) { not_live(); }
  void carry_out(const Step&, const step::ShrinkDevice&) { not_live(); }
  void carry_out(const Step&, const step::RemoveDevice&) { not_live(); }
  void carry_out(const Step&, const step::MoveExtents&) { not_live(); }
  void carry_out(const Step&, const step::ShrinkVolume&) { not_live(); }
  void carry_out(const Step&, const step::ReplayJournal&) { not_live(); }
  void carry_out(const Step&, const step::PrepareContent&) { not_live(); }
  void carry_out(const Step&, const step::ShrinkContent&) { not_live(); }
  [[noreturn]] static void not_live() {
    throw Error(Status::internal, "only what leaves a running system sound is planned for it", {},
                "please report this as a bug");
  }

  [[noreturn]] static void differs(const Step& step, Bytes found) {
    io_failed(fmt::format("after \"{}\" the kernel says {}, and not {}", step.action,
                          spelled_out(found), spelled_out(step.to)),
              step.name, "look into the system's log; then run this again");
  }

  Kernel& kernel_;
  const RunningSystem& before_;
  const Guest& guest_;
  const Plan& plan_;
  const std::vector<NewDisk>& new_disks_;
  const Notes& notes_;
  const LookAgain& look_again_;
  Progress& progress_;
  std::map<std::string, std::unique_ptr<GroupWork>> groups_;
};

// On what volume groups say of themselves.
bool is_of_groups(const Step& step) {
  return step.is<step::GrowPhysicalVolume>() || step.is<step::AddDevice>() ||
         step.is<step::GrowVolume>() || step.is<step::CommitGroup>();
}

}  // namespace

bool carry_out_live(const LiveWork& work, const Notes& notes, const LookAgain& look_again,
                    const OthersFirst& others_first, Progress& progress,
                    const std::function<void(const Step&)>& done) {
  LiveWorker worker(work, notes, look_again, progress);
  const Plan& plan = work.plan;
  std::set<const Mount*> touched;
  for (const Step& step : plan.steps)
    if (const Layer* layer = work.before.guest().find(step.layer); layer != nullptr)
      touched.insert(work.before.mount_of(*layer));
  for (const Mount* mount : touched)
    if (mount != nullptr) work.kernel.check_takes_writes(*mount);
  bool begun = false;
  bool told = false;
  for (const Step& step : plan.steps) {
    // Stopped between two steps: the system is sound, and a second run does the rest.
    progress.begin(step.action, 0);
    progress.advance(0);
    try {
      if (told && is_of_groups(step)) {
        told = false;
        if (!others_first()) return false;
      }
      worker.run(step);
    } catch (const Error& error) {
      throw error.with_context(step.name).with_outcome(begun ? Outcome::sound : error.outcome());
    }
    progress.end();
    begun = true;
    told = told || step.is<step::TellPartition>();
    done(step);
  }
  return true;
}

}  // namespace jh::live

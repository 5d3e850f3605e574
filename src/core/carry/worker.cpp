#include "core/carry/worker.h"

#include <fmt/format.h>

#include <algorithm>
#include <ctime>

#include "core/lvm/shrink.h"

namespace jh {

// Steps on a disk and its table.
class Worker::DiskWork {
 public:
  DiskWork(Stage& stage, Neighbours& beside, std::uint32_t sector_size)
      : stage_(stage), sector_size_(sector_size), container_(open_container(stage, &beside)) {
    open_table_again();
  }

  void make_table(TableKind kind) {
    be_ready();
    table_ = jh::make_table(container_->disk(), kind, sector_size_);
  }

  // What every container asks for before it is written to for the first time.
  void be_ready() {
    if (!ready_) container_->make_ready();
    ready_ = true;
  }

  /// `new_size`: of the disk, once all steps are done. `content`: of the step's partition.
  void run(const Step& step, Bytes new_size, const FilesystemKind* content, Progress& progress) {
    be_ready();
    switch (step.kind) {
      case StepKind::settle_container:
        break;
      case StepKind::grow_container:
        container_->grow(step.to);
        break;
      case StepKind::repair_table:
        if (!table_->must_move_spare()) table_->repair(container_->disk());
        break;
      case StepKind::move_spare:
        if (const Store& disk = container_->disk(); new_size.value() < disk.size()) {
          WindowStore left(container_->disk(), 0, new_size.value(), disk.name());
          table_->cover_disk(left);
        } else {
          table_->cover_disk(container_->disk());
        }
        break;
      case StepKind::shrink_partition:
        table_->move_end(container_->disk(), step.partition, step.new_end);
        break;
      case StepKind::move_partition:
        move_content(step, content, progress);
        break;
      case StepKind::move_chain:
        table_->move_chain(container_->disk(), {step.partition, step.new_first, step.new_end},
                           step.logical);
        break;
      case StepKind::shrink_container:
        container_->shrink(step.to);
        break;
      case StepKind::grow_partition:
        table_->cover_disk(container_->disk());
        table_->move_end(container_->disk(), step.partition, step.new_end);
        break;
      case StepKind::create_partition:
        table_->cover_disk(container_->disk());
        ensure(table_->place_new(Bytes(container_->disk().size())) == step.fresh,
               "the new partition lies where the plan says");
        table_->create(container_->disk(), step.fresh, random_guid());
        break;
      default:
        ensure(false, "this is a step on a disk");
    }
  }

  std::unique_ptr<Store> place(std::uint32_t partition) {
    be_ready();
    Store& disk = container_->disk();
    if (partition == 0) return std::make_unique<WindowStore>(disk, 0, disk.size(), disk.name());
    open_table_again();  // from the stage, as it will be on disk
    const Partition* found = table_->find(partition);
    ensure(found != nullptr, "the partition is in the staged table");
    return std::make_unique<WindowStore>(disk, to_bytes(found->first, sector_size_).value(),
                                         to_bytes(found->count, sector_size_).value(),
                                         fmt::format("{}, partition {}", stage_.name(), partition));
  }

 private:
  // Towards the front, from its beginning on: old and new place may overlap. The stage keeps what
  // stood there, piece by piece, before it is overwritten. That may be the record of a logical
  // partition: the table is not read again before all records are written anew.
  void move_content(const Step& step, const FilesystemKind* content, Progress& progress) {
    const Partition* partition = table_->find(step.partition);
    ensure(partition != nullptr && step.new_first < partition->first,
           "a partition moves towards the front");
    Store& disk = container_->disk();
    const std::uint64_t from = to_bytes(partition->first, sector_size_).value();
    const std::uint64_t to = to_bytes(step.new_first, sector_size_).value();
    const std::uint64_t length = to_bytes(step.new_end - step.new_first, sector_size_).value();
    constexpr std::uint64_t most = 1U << 20;
    for (std::uint64_t done = 0; done < length; done += most) {
      const std::uint64_t step_size = std::min(most, length - done);
      copy_unreferenced(disk, from + done, disk, to + done, step_size);
      progress.advance(done + step_size);
    }
    WindowStore moved(disk, to, length, stage_.name());
    tell_place(moved, content, partition->first, step.new_first);
    if (partition->role != PartitionRole::logical)
      table_->move(disk, step.partition, step.new_first, step.new_end);
  }

  void open_table_again() { table_ = open_table(container_->disk(), sector_size_); }

  Stage& stage_;
  std::uint32_t sector_size_;
  std::unique_ptr<Container> container_;
  std::unique_ptr<PartitionTable> table_;
  bool ready_ = false;
};

Worker::Worker(const Guest& before, const Plan& plan, FileSet& files)
    : before_(before), plan_(plan), files_(files), disks_(before.disks().size()) {}

Worker::~Worker() = default;

Worker::DiskWork& Worker::disk(std::size_t index) {
  if (!disks_[index]) {
    const Disk& disk = before_.disks()[index];
    disks_[index] = std::make_unique<DiskWork>(files_.stage(index), files_.beside(),
                                               disk.added   ? 512
                                               : disk.table ? disk.table->facts().sector_size
                                                            : 0);
  }
  return *disks_[index];
}

void Worker::run(const Step& step, Progress& progress) {
  switch (step.kind) {
    case StepKind::create_disk:
      create_container(files_.stage(step.disk), plan_.disks[step.disk].made, &files_.beside());
      disk(step.disk).make_table(step.table);
      break;
    case StepKind::settle_container:
    case StepKind::grow_container:
    case StepKind::repair_table:
    case StepKind::move_spare:
    case StepKind::grow_partition:
    case StepKind::create_partition:
      ensure(!group_ || plan_.lets_go(), "tables grow before groups do");
      run_on_disk(step, progress);
      break;
    case StepKind::shrink_partition:
    case StepKind::shrink_container:
    case StepKind::move_partition:
    case StepKind::move_chain:
      run_on_disk(step, progress);
      break;
    case StepKind::grow_device:
    case StepKind::add_device:
    case StepKind::grow_volume:
    case StepKind::commit_group:
    case StepKind::shrink_volume:
    case StepKind::move_extents:
    case StepKind::shrink_device:
    case StepKind::remove_device:
      run_in_group(step, progress);
      break;
    case StepKind::settle_content:
    case StepKind::prepare_content:
    case StepKind::grow_content:
    case StepKind::shrink_content:
      run_inside(step, progress);
      break;
  }
}

void Worker::run_on_disk(const Step& step, Progress& progress) {
  const Place* place = place_at(before_, step.where());
  const FilesystemKind* content = place == nullptr ? nullptr : place->content.filesystem_kind;
  disk(step.disk).run(step, plan_.disks[step.disk].to, content, progress);
}

void Worker::run_in_group(const Step& step, Progress& progress) {
  lvm::OpenGroup& open = group();
  if (step.kind == StepKind::grow_device) {
    const std::size_t pv = device_of(step);
    lvm::resize_device(open, pv, open.members[pv]->store->size());
    ensure(open.group.pvs[pv].extents * open.group.extent_size == step.to.value(),
           "the physical volume grows as planned");
  } else if (step.kind == StepKind::add_device) {
    device_places_.push_back(disk(step.disk).place(step.partition));
    Store& store = *device_places_.back();
    lvm::make_device(open, store, random_letters(lvm::id_length));
  } else if (step.kind == StepKind::grow_volume) {
    const std::string name = volume_of(step).name;
    const auto additions = lvm::allocate(open.group, volume_of(step), step.extents);
    ensure(lvm::total(additions) == step.extents, "the volume gets the extents it was promised");
    lvm::extend_volume(open.group, name, additions);
  } else if (step.kind == StepKind::shrink_volume) {
    lvm::reduce_volume(open.group, volume_of(step).name, step.extents);
  } else if (step.kind == StepKind::move_extents) {
    std::vector<std::size_t> leaving;
    for (const Step& other : plan_.steps)
      if (other.kind == StepKind::remove_device) leaving.push_back(device_of(other));
    lvm::move_extents(open, lvm::plan_moves(open.group, device_of(step), step.extents, leaving),
                      progress);
  } else if (step.kind == StepKind::shrink_device) {
    lvm::resize_device(open, device_of(step), step.place_size.value());
    ensure(open.group.pvs[device_of(step)].extents == step.extents,
           "the physical volume shrinks as planned");
  } else if (step.kind == StepKind::remove_device) {
    lvm::remove_device(open, device_of(step));
  } else {
    lvm::commit(open, fmt::format("juneheath {}: {}", plan_.command, plan_.target),
                static_cast<std::uint64_t>(std::time(nullptr)));
  }
}

void Worker::run_inside(const Step& step, Progress& progress) {
  const auto store = place(step);
  const FilesystemKind* kind = place_at(before_, step.where())->content.filesystem_kind;
  ensure(kind != nullptr && kind->resizable, "what is resized can be");
  if (step.kind == StepKind::settle_content) {
    kind->settle(*store);
    return;
  }
  const auto filesystem = kind->open_to_change(*store);
  if (step.kind == StepKind::prepare_content)
    filesystem->prepare(step.content_size, progress);
  else
    filesystem->resize(step.content_size, progress);
}

std::unique_ptr<Store> Worker::place(const Step& step) {
  if (step.volume.empty()) return disk(step.disk).place(step.partition);
  auto store = lvm::open_volume(group(), volume_of(step), "volume " + step.volume);
  ensure(store != nullptr, "the volume can be opened");
  return store;
}

const VolumeGroup& Worker::known_group() const {
  for (const VolumeGroup& known : before_.groups())
    if (known.open.group.name == plan_.group) return known;
  throw Error(Status::internal, "the plan's group is in the guest", {},
              "please report this as a bug");
}

lvm::OpenGroup& Worker::group() {
  if (group_) return *group_;
  std::vector<Store*> stores;
  for (const Place* device : known_group().devices) {
    device_places_.push_back(
        disk(device->disk).place(device->partition ? device->partition->number : 0));
    stores.push_back(device_places_.back().get());
  }
  lvm::Groups found = lvm::find_groups(stores);
  ensure(found.groups.size() == 1 && found.groups.front().blockers().empty(),
         "the group is whole on the stages");
  group_ = std::make_unique<lvm::OpenGroup>(std::move(found.groups.front()));
  return *group_;
}

const lvm::Volume& Worker::volume_of(const Step& step) {
  const lvm::Volume* volume = group().group.find(step.volume.substr(step.volume.rfind('/') + 1));
  ensure(volume != nullptr, "the volume is in the group");
  return *volume;
}

std::size_t Worker::device_of(const Step& step) {
  const VolumeGroup& known = known_group();
  const auto found =
      std::find_if(known.devices.begin(), known.devices.end(), [&](const Place* device) {
        return device->disk == step.disk &&
               (device->partition ? device->partition->number : 0) == step.partition;
      });
  ensure(found != known.devices.end(), "the physical volume is in the group");
  // By its identity: the group's list may have become shorter since.
  const std::string& id =
      known.open.group.pvs[static_cast<std::size_t>(found - known.devices.begin())].id;
  const auto& pvs = group().group.pvs;
  const auto now = std::find_if(pvs.begin(), pvs.end(),
                                [&](const lvm::PhysicalVolume& pv) { return pv.id == id; });
  ensure(now != pvs.end(), "the physical volume is still in the group");
  return static_cast<std::size_t>(now - pvs.begin());
}

}  // namespace jh

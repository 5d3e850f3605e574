#include "core/carry/worker.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/carry/disk_work.h"
#include "core/carry/group_work.h"
#include "core/carry/inner_table.h"

namespace jh {

// One step: to the disk, the group or the content that it is about.
class Worker::Visitor {
 public:
  Visitor(Worker& worker, const Step& step, Progress& progress)
      : worker_(worker), step_(step), progress_(progress) {}

  // On disks and tables.
  void operator()(const step::CreateDisk& work) {
    const std::size_t disk = step_.layer.disk;
    // A blank disk that is there keeps its image.
    if (worker_.before_.disks()[disk].added)
      create_container(worker_.files_.stage(disk), worker_.plan_.disks[disk].made,
                       &worker_.files_.resolver());
    on_disk(work);
  }
  void operator()(const step::MovePartition& work) {
    const Layer* layer = worker_.before_.find(step_.layer);
    ensure(layer != nullptr, "what moves was there");
    worker_.disk(step_.layer.disk).run(step_, work, layer->content, progress_);
  }
  void operator()(const step::RecoverContainer& work) { on_disk(work); }
  void operator()(const step::GrowContainer& work) { on_disk(work); }
  void operator()(const step::ShrinkContainer& work) { on_disk(work); }
  void operator()(const step::RepairTable& work) { on_table(step_.layer, work); }
  void operator()(const step::MoveSpare& work) { on_table(step_.layer, work); }
  void operator()(const step::GrowPartition& work) { on_table(step_.layer.outer(), work); }
  void operator()(const step::CreatePartition& work) { on_table(step_.layer.outer(), work); }
  void operator()(const step::ShrinkPartition& work) { on_disk(work); }
  void operator()(const step::MoveExtended& work) { on_disk(work); }

  // In groups.
  void operator()(const step::AddDevice& work) { worker_.group(work.group).run(step_, work); }
  void operator()(const step::CommitGroup& work) { worker_.group(work.group).run(step_, work); }
  void operator()(const step::MoveExtents& work) {
    worker_.group_on(step_.layer).run(step_, work, progress_);
  }
  void operator()(const step::GrowPhysicalVolume& work) { on_device(work); }
  void operator()(const step::ShrinkDevice& work) { on_device(work); }
  void operator()(const step::RemoveDevice& work) { on_device(work); }
  void operator()(const step::GrowVolume& work) { on_volume(work); }
  void operator()(const step::ShrinkVolume& work) { on_volume(work); }

  // No image has a kernel.
  void operator()(const step::TellPartition&) { ensure(false, "an image is at rest"); }
  void operator()(const step::LoadVolume&) { ensure(false, "an image is at rest"); }

  // Inside a place.
  void operator()(const step::ReplayJournal&) {
    kind().replay_journal(*worker_.layer(step_.layer));
  }
  void operator()(const step::PrepareContent& work) {
    const auto store = worker_.layer(step_.layer);
    kind().open_to_change(*store)->prepare(work.size, progress_);
  }
  void operator()(const step::GrowContent& work) { resize(work.size); }
  void operator()(const step::ShrinkContent& work) { resize(work.size); }

 private:
  template <class Work>
  void on_disk(const Work& work) {
    worker_.disk(step_.layer.disk).run(step_, work);
  }
  // Of a disk, or of one that is kept in the layer. A group finds its devices by the table.
  template <class Work>
  void on_table(const LayerId& on, const Work& work) {
    if (on.is_disk()) {
      if constexpr (!std::is_same_v<Work, step::RepairTable> &&
                    !std::is_same_v<Work, step::MoveSpare>)
        ensure(worker_.groups_.empty(), "tables grow before groups do");
      on_disk(work);
      return;
    }
    const auto store = worker_.layer(on);
    InnerTable(*store, worker_.sector_size_on(on)).run(step_, work);
  }
  template <class Work>
  void on_device(const Work& work) {
    worker_.group_on(step_.layer).run(step_, work);
  }
  template <class Work>
  void on_volume(const Work& work) {
    worker_.group_of(step_.layer).run(step_, work);
  }
  const FilesystemKind& kind() const {
    const FilesystemKind* kind = worker_.before_.find(step_.layer)->content.filesystem_kind();
    ensure(kind != nullptr && kind->resizable, "what is resized can be");
    return *kind;
  }
  void resize(Bytes size) {
    const auto store = worker_.layer(step_.layer);
    kind().open_to_change(*store)->resize(size, progress_);
  }

  Worker& worker_;
  const Step& step_;
  Progress& progress_;
};

Worker::Worker(const Guest& before, const Plan& plan, FileSet& files, std::uint64_t now)
    : before_(before), plan_(plan), files_(files), now_(now), disks_(before.disks().size()) {}

Worker::~Worker() = default;

void Worker::run(const Step& step, Progress& progress) {
  std::visit(Visitor(*this, step, progress), step.work);
}

DiskWork& Worker::disk(std::size_t index) {
  if (!disks_[index]) {
    const Disk& disk = before_.disks()[index];
    const std::uint32_t sector = plan_.makes_table(index) ? disk.sector_size
                                 : disk.table             ? disk.table->facts().sector_size
                                                          : 0;
    disks_[index] = std::make_unique<DiskWork>(files_.stage(index), files_.resolver(), sector,
                                               plan_.disks[index].to);
  }
  return *disks_[index];
}

GroupWork& Worker::group(const std::string& name) {
  auto& work = groups_[name];
  if (work) return *work;
  const VolumeGroup* found = before_.group_named(name);
  ensure(found != nullptr, "the group is in the guest");
  work = std::make_unique<GroupWork>(*found, before_, plan_, now_,
                                     [this](const LayerId& id) { return layer(id); });
  return *work;
}

GroupWork& Worker::group_of(const LayerId& volume) {
  return group(volume.volume.substr(0, volume.volume.rfind('/')));
}

GroupWork& Worker::group_on(const LayerId& device) {
  const Layer* layer = before_.find(device);
  std::size_t pv = 0;
  const VolumeGroup* found = layer == nullptr ? nullptr : before_.group_on(*layer, pv);
  ensure(found != nullptr, "a physical volume lies there");
  return group(found->open.group.name);
}

std::uint32_t Worker::sector_size_on(const LayerId& id) const {
  const Layer* layer = before_.find(id);
  ensure(layer != nullptr && layer->table, "a disk with a table is kept there");
  return layer->table->facts().sector_size;
}

std::unique_ptr<Store> Worker::layer(const LayerId& id) {
  if (id.partitions.empty() && !id.volume.empty()) return group_of(id).open_volume(id);
  if (id.volume.empty() && id.partitions.size() <= 1) return disk(id.disk).layer(id.number());
  const LayerId outer = id.outer();
  auto below = layer(outer);
  const auto [start, length] = InnerTable(*below, sector_size_on(outer)).place_of(id.number());
  const std::string name = fmt::format("{}, partition {}", below->name(), id.number());
  return std::make_unique<WindowStore>(std::move(below), start.value(), length.value(), name);
}

}  // namespace jh

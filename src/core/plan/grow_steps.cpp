#include "core/plan/grow_steps.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "core/base/uuid.h"
#include "core/lvm/grow.h"
#include "core/plan/content.h"
#include "core/plan/move_steps.h"

namespace jh {
namespace {

class GrowthSteps {
 public:
  GrowthSteps(GrowContext& scene, const std::vector<LayerTarget>& layers,
              const std::vector<GroupGrowth>& groups, const InnerGrowth& inner)
      : scene_(scene),
        plan_(scene.plan),
        guest_(scene.guest),
        layers_(layers),
        groups_(groups),
        inner_(inner),
        images_done_(scene.disks.size()),
        tables_done_(scene.disks.size()) {}

  void run() {
    // A group's text is written on all of its disks.
    for (const GroupGrowth& growth : groups_)
      for (const Layer* device : growth.group().devices)
        if (device != nullptr) open_images_below(*device);
    for (const InnerTarget& target : inner_.targets()) open_images_below(*target.layer);
    if (scene_.resized) prepare_table(*scene_.resized);
    for (const LayerTarget& target : layers_) prepare_table(target.layer->disk);
    for (std::size_t i = 0; i < scene_.disks.size(); ++i) arrange(i);
    for (const GroupGrowth& growth : groups_)
      for (const FreshDevice& fresh : growth.fresh_devices()) {
        if (fresh.new_disk)
          add_disk_step(fresh.disk);
        else
          prepare_table(fresh.disk);
        add_partition_step(fresh);
      }
    // What stands on a layer comes after it.
    std::size_t deepest = inner_.deepest();
    for (const GroupGrowth& growth : groups_) deepest = std::max(deepest, growth.storey());
    for (std::size_t storey = 0; storey <= deepest; ++storey) {
      for (const InnerTarget& target : inner_.targets())
        if (target.layer->storey == storey) add_inner_steps(target);
      for (const GroupGrowth& growth : groups_)
        if (growth.storey() == storey) add_group_steps(growth);
    }
    for (const LayerTarget& target : layers_) add_content_steps(target);
    name_targets();
    for (const GroupGrowth& growth : groups_) add_group_notes(growth);
  }

 private:
  void open_image(std::size_t i) {
    if (!images_done_[i] && !guest_.disks()[i].added)
      plan_container(plan_, guest_, scene_.request, i, scene_.disks[i].size());
    images_done_[i] = true;
  }

  void open_images_below(const Layer& layer) {
    for (const std::size_t disk : guest_.disks_below(layer)) open_image(disk);
  }

  bool has_targets_in(const Layer& layer) const {
    return std::any_of(
        inner_.targets().begin(), inner_.targets().end(),
        [&](const InnerTarget& target) { return target.layer->id.outer() == layer.id; });
  }

  // On a disk that is kept in a layer: its table knows the new end before a partition has it.
  void add_inner_steps(const InnerTarget& target) {
    const Layer& layer = *target.layer;
    const Layer& outer = *guest_.find(layer.id.outer());
    prepare_inner_table(outer);
    const std::string name = guest_.name_of(layer);
    if (target.size > layer.size)
      plan_.steps.push_back(
          {layer.id, name, "move its end outwards",
           step::GrowPartition{layer.partition->first +
                               Sectors(target.size.value() / outer.table->facts().sector_size)}});
    if (!target.carries_group) plan_content(plan_, guest_, layer, target.content);
    const LayerId base(layer.id.disk, layer.id.volume);
    if (!layer.id.volume.empty()) plan_.add_group(guest_, guest_.group_of(*guest_.find(base)));
  }

  void prepare_inner_table(const Layer& outer) {
    if (!inner_tables_done_.insert(outer.id).second) return;
    const TableFacts& facts = outer.table->facts();
    const std::string name = fmt::format("{} on {}", kind_name(facts.kind), guest_.name_of(outer));
    for (const std::string& repair : facts.repairs)
      plan_.steps.push_back({outer.id, name, "repair: " + repair, step::RepairTable{}});
    const Bytes size = scene_.promised(outer);
    if (facts.kind == TableKind::gpt && (outer.table->must_move_spare() || size > outer.size))
      plan_.steps.push_back({outer.id, name, "move the backup copy to the disk's end",
                             step::MoveSpare{outer.table->usable_end_on(size)}});
    plan_.bytes_to_write += 256 * 1024;
  }

  void prepare_table(std::size_t i) {
    if (tables_done_[i]) return;
    tables_done_[i] = true;
    check_table(guest_.disks()[i]);
    open_image(i);
    const bool repairs = scene_.disks[i].becomes_larger() || !layers_.empty() || !groups_.empty();
    plan_table(plan_, guest_, i, scene_.disks[i].size(), repairs);
  }

  // What is in the way moves first, from the end of the disk on; then partitions get their ends.
  void arrange(std::size_t i) {
    const DiskGrowth& growth = scene_.disks[i];
    if (!growth.has_promised() || !growth.disk().table) return;
    prepare_table(i);
    const std::vector<PartitionLayout::Member> moved = growth.moved();
    for (auto member = moved.rbegin(); member != moved.rend(); ++member) {
      plan_move(plan_, guest_, *member);
      plan_.bytes_to_write += member->layer->size.value();
      plan_.of_content += member->layer->size.value();
    }
    const auto extended = growth.extended();
    if (extended) plan_extended(plan_, guest_, i, *extended);
    for (const Layer& layer : growth.disk().layers) {
      if (!layer.partition || growth.promised(layer) <= layer.size) continue;
      plan_partition_end(plan_, guest_, layer, growth.layout_of(layer).end(), !extended);
    }
  }

  void add_group_steps(const GroupGrowth& growth) {
    const VolumeGroup& group = growth.group();
    for (const std::size_t pv : growth.grown_devices()) add_device_step(growth, pv);
    for (const FreshDevice& fresh : growth.fresh_devices()) add_fresh_device_step(growth, fresh);
    bool changed = !growth.grown_devices().empty() || !growth.fresh_devices().empty();
    for (const std::size_t index : growth.served()) {
      const VolumeTarget& target = growth.volumes()[index];
      if (target.extents == 0) continue;
      add_volume_step(group, target);
      changed = true;
    }
    if (changed) add_commit_step(growth);
    for (const std::size_t index : growth.served()) {
      const VolumeTarget& target = growth.volumes()[index];
      if (target.carries_layers || has_targets_in(*target.volume)) continue;  // they have steps
      const Bytes size = target.volume->size + group.bytes(target.extents);
      plan_content(plan_, guest_, *target.volume, size);
    }
    plan_.add_group(guest_, group);
  }

  void add_content_steps(const LayerTarget& target) {
    if (target.layer->content.claims) return;  // it has its size already
    if (target.carries_layers || has_targets_in(*target.layer)) return;
    const Bytes size = scene_.disks[target.layer->disk].promised(*target.layer);
    plan_content(plan_, guest_, *target.layer,
                 target.amount.kind == Amount::Kind::rest ? size : target.content);
  }

  void add_device_step(const GroupGrowth& growth, std::size_t pv) {
    const VolumeGroup& group = growth.group();
    const std::uint64_t to = growth.planned().group.pvs[pv].extents;
    const std::uint64_t from = group.open.group.pvs[pv].extents;
    const Layer& layer = *group.devices[pv];
    plan_.steps.push_back({layer.id, "PV on " + guest_.name_of(layer),
                           fmt::format("take {} more extents", grouped(to - from)),
                           step::GrowPhysicalVolume{to}});
  }

  void add_disk_step(std::size_t i) {
    const Disk& disk = guest_.disks()[i];
    const TableKind table = table_kind_of_new(guest_, disk);
    open_image(i);
    if (guest_.is_running() || !disk.added) {
      plan_.steps.push_back({LayerId(i), disk_name(guest_, i),
                             fmt::format("put an empty {} on it", kind_name(table)),
                             step::CreateDisk{table, disk.size(), disk.sector_size}});
      return;
    }
    const ContainerFacts first = guest_.disks().front().container->facts();
    NewContainer& made = plan_.disks[i].made;
    made.format =
        scene_.request.format.value_or(format_by_extension(disk.path).value_or(first.format));
    made.in_pieces = made.format == ImageFormat::vmdk && first.format == ImageFormat::vmdk &&
                     first.parts.size() > 1;
    made.disk_size = disk.size();
    made.sector_size = disk.sector_size;
    made.id = random_guid();
    made.content_id = random_content_id();
    plan_.disks[i].new_parts = parts_of_new(disk.path, made);
    plan_.steps.push_back({LayerId(i), disk_name(guest_, i),
                           fmt::format("make a new sparse {} image, with an empty {}",
                                       format_name(made.format), kind_name(table)),
                           step::CreateDisk{table, disk.size(), disk.sector_size}});
    plan_.bytes_to_write += 256 * 1024;
    plan_.remains.push_back("attach the new disk to the guest in your hypervisor: " + disk.path);
  }

  void add_partition_step(const FreshDevice& fresh) {
    const Disk& disk = guest_.disks()[fresh.disk];
    const bool mbr = fresh.new_disk ? table_kind_of_new(guest_, disk) == TableKind::mbr
                                    : disk.table->facts().kind == TableKind::mbr;
    const bool logical = fresh.partition.role == PartitionRole::logical;
    const std::string name = partition_name(guest_, fresh.disk, fresh.partition.number);
    plan_.steps.push_back({LayerId(fresh.disk, {}, {fresh.partition.number}), name,
                           fmt::format("make a new {}partition{} for a physical volume",
                                       logical ? "logical " : "", mbr ? " (type 0x8e)" : ""),
                           step::CreatePartition{fresh.partition}});
    if (fresh.new_disk) return;
    plan_.notes.push_back(fmt::format("{} is new: {}", name,
                                      scene_.request.new_partition
                                          ? "asked for with --new-partition"
                                          : "no physical volume can grow in place"));
  }

  void add_fresh_device_step(const GroupGrowth& growth, const FreshDevice& fresh) {
    const std::uint64_t extents = lvm::new_extents(growth.group().open, fresh.size.value());
    plan_.steps.push_back(
        {LayerId(fresh.disk, {}, {fresh.partition.number}),
         "PV on " + partition_name(guest_, fresh.disk, fresh.partition.number),
         fmt::format("make it, with {} extents, and add it to the group", grouped(extents)),
         step::AddDevice{growth.group().open.group.name, extents}});
    plan_.bytes_to_write += growth.planned().group.pvs.back().data_start;
  }

  void add_volume_step(const VolumeGroup& group, const VolumeTarget& target) {
    const Layer& layer = *target.volume;
    plan_.steps.push_back(
        {layer.id, guest_.name_of(layer),
         fmt::format("add {} extents of {}{}", grouped(target.extents),
                     human(Bytes(group.open.group.extent_size)),
                     target.pieces > 1 ? fmt::format(", in {} pieces", target.pieces) : ""),
         step::GrowVolume{target.extents}});
  }

  void add_commit_step(const GroupGrowth& growth) {
    const VolumeGroup& group = growth.group();
    const lvm::Group& facts = group.open.group;
    std::uint64_t copies = 0;
    for (const auto& member : growth.planned().members)
      for (const lvm::MetadataArea& area : member->device.areas) copies += area.ignored ? 0 : 1;
    plan_.steps.push_back({LayerId(group.devices.front()->disk), "group " + facts.name,
                           fmt::format("write its metadata anew (number {}), {} cop{}",
                                       facts.sequence + 1, copies, copies == 1 ? "y" : "ies"),
                           step::CommitGroup{facts.name}});
    plan_.bytes_to_write += (lvm::write_text(growth.planned().group.text()).size() + 8192) * copies;
  }

  // In the order they were asked for.
  void name_targets() {
    std::vector<std::pair<const Layer*, bool>> named;  // whether it changes inside
    for (const LayerTarget& target : layers_)
      if (!target.carries_layers) named.emplace_back(target.layer, !has_targets_in(*target.layer));
    for (const InnerTarget& target : inner_.targets())
      if (target.asked) named.emplace_back(target.layer, !target.carries_group);
    std::string devices;
    for (const GroupGrowth& growth : groups_) {
      for (const VolumeTarget& target : growth.volumes())
        if (target.asked)
          named.emplace_back(target.volume,
                             !target.carries_layers && !has_targets_in(*target.volume));
      if (growth.volumes().empty()) devices += ", group " + growth.group().open.group.name;
    }
    for (const auto& [layer, inside] : named) {
      plan_.target += ", " + guest_.best_name(*layer);
      if (inside) plan_.targets.push_back(layer->id);
    }
    plan_.target += devices;
    plan_.target.erase(0, 2);
  }

  void add_group_notes(const GroupGrowth& growth) {
    const VolumeGroup& group = growth.group();
    for (const std::string& note : group.open.notes) plan_.notes.push_back(note);
    const lvm::Group& planned = growth.planned().group;
    const std::uint64_t left = planned.free_extents();
    const std::uint64_t gained = planned.total_extents() - group.open.group.total_extents();
    std::string from;
    if (gained != 0) from = fmt::format("{} are new to it", human(group.bytes(gained)));
    if (growth.free_before() != 0)
      from += fmt::format("{}{} it had free", from.empty() ? "" : ", ",
                          human(group.bytes(growth.free_before())));
    if (!from.empty())
      plan_.notes.push_back(fmt::format("group {}: {}; {} stay free in it", planned.name, from,
                                        left == 0 ? "none" : human(group.bytes(left))));
  }

  GrowContext& scene_;
  Plan& plan_;
  const Guest& guest_;
  const std::vector<LayerTarget>& layers_;
  const std::vector<GroupGrowth>& groups_;
  const InnerGrowth& inner_;
  std::set<LayerId> inner_tables_done_;
  std::vector<bool> images_done_;
  std::vector<bool> tables_done_;
};

}  // namespace

void add_growth_steps(GrowContext& scene, const std::vector<LayerTarget>& layers,
                      const std::vector<GroupGrowth>& groups, const InnerGrowth& inner) {
  GrowthSteps(scene, layers, groups, inner).run();
}

}  // namespace jh

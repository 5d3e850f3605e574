// What the tables were before a change, kept beside each other, with a script that puts them back.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <set>

#include "core/base/shell_word.h"
#include "core/live/carry_live.h"

namespace jh::live {
namespace {

namespace files = std::filesystem;

class Keeper {
 public:
  Keeper(const RunningSystem& system, std::string folder)
      : system_(system), folder_(std::move(folder)) {
    script_ =
        "#!/bin/sh\n"
        "# Tables and volume metadata as they were before a change of the running system.\n"
        "# Only before anything has used the new room: what lies there would be lost.\n"
        "set -eu\ncd \"$(dirname \"$0\")\"\n"
        "same() {  # NODE SECTORS: as long as it was, as the kernel has it\n"
        "  now=$(cat \"/sys/class/block/$1/size\" 2>/dev/null || echo gone)\n"
        "  [ \"$now\" = \"$2\" ] && return 0\n"
        "  echo \"nothing was put back: $1 had $2 sectors before the change, and has $now now;"
        " what has used the new room would be lost\" >&2\n"
        "  exit 1\n}\n";
  }

  // What stands on the tables must still be as it was when they are put back.
  void check(const std::string& node, std::uint64_t size) {
    std::string name = files::path(node).lexically_relative("/dev").string();
    std::replace(name.begin(), name.end(), '/', '!');
    checks_ += fmt::format("same {} {}\n", shell_word(name), size / 512);
  }

  void keep(const std::string& device, const Ranges& layers) {
    if (!kept_.insert(device).second) return;
    const auto store = system_.kernel().open_to_read(device);
    unsigned number = 0;
    for (const auto& [start, end] : layers) {
      const std::string name =
          fmt::format("{}-{}.bin", files::path(device).filename().string(), ++number);
      const std::uint64_t length = std::min(end, store->size()) - start;
      write_new_file((files::path(folder_) / name).string(), read_buffer(*store, start, length));
      puts_ += fmt::format("dd if={} of={} bs=512 seek={} conv=notrunc,fsync status=none\n",
                           shell_word(name), shell_word(device), start / 512);
    }
  }

  // Empty: nothing of what is kept changes.
  std::string finish() {
    if (kept_.empty()) return {};
    const std::string path = (files::path(folder_) / "put-back").string();
    const std::string text = script_ + checks_ + puts_;
    write_new_file(path, text_bytes(text));
    return "sh " + shell_word(path);
  }

 private:
  const RunningSystem& system_;
  std::string folder_;
  std::string script_;
  std::string checks_;
  std::string puts_;
  std::set<std::string> kept_;
};

// All that is not content: the label, and the metadata areas.
Ranges places_of(const lvm::Device& device) {
  Ranges layers;
  add_range(layers, 0, lvm::label_sectors * lvm::sector);
  for (const lvm::MetadataArea& area : device.areas)
    add_range(layers, area.place.offset, area.place.end());
  return layers;
}

}  // namespace

TablesKept keep_tables(const RunningSystem& system, const Plan& plan, const std::string& folder) {
  const Guest& guest = system.guest();
  Keeper keeper(system, folder);
  for (std::size_t i = 0; i < guest.disks().size(); ++i) {
    const Disk& disk = guest.disks()[i];
    const bool touched = std::any_of(plan.steps.begin(), plan.steps.end(), [&](const Step& step) {
      return step.layer.disk == i && step.layer.volume.empty() && !step.is<step::GrowContent>();
    });
    if (touched && disk.table) {
      Ranges layers = disk.table->own_places();
      add_range(layers, 0, disk.table->facts().sector_size);  // boot code in it stays as it is
      keeper.keep(system.disk(i).path, layers);
    }
  }
  for (const VolumeGroup& group : guest.groups()) {
    if (!plan.changes(group)) continue;
    for (std::size_t pv = 0; pv < group.devices.size(); ++pv)
      if (group.devices[pv] != nullptr && group.open.members[pv])
        keeper.keep(system.path_of(*group.devices[pv]), places_of(group.open.members[pv]->device));
  }
  for (std::size_t i = 0; i < guest.disks().size(); ++i)
    for (const Layer& layer : guest.disks()[i].layers) {
      const KernelPartition* known =
          layer.partition ? system.partition(i, layer.partition->number) : nullptr;
      const bool changes = std::any_of(plan.steps.begin(), plan.steps.end(), [&](const Step& step) {
        return step.layer == layer.id &&
               (step.is<step::GrowPartition>() || step.is<step::TellPartition>());
      });
      if (known != nullptr && changes) keeper.check(known->path, known->size);
    }
  for (const VolumeGroup& group : guest.groups()) {
    if (!plan.changes(group)) continue;
    for (const Layer& volume : group.volumes)
      if (const MappedDevice* device = system.mapped(group, guest.volume_of(volume)))
        keeper.check(device->path, device->size);
  }
  return {folder, keeper.finish()};
}

void end_put_back(TablesKept& kept) {
  std::error_code ignored;
  files::remove(files::path(kept.folder) / "put-back", ignored);
  kept.command.clear();
}

}  // namespace jh::live

// The names that a guest has for its places: mount points, and drive letters.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "core/base/uuid.h"
#include "core/guest/guest.h"
#include "core/guest/registry.h"
#include "core/lvm/mapper_name.h"

namespace jh {
namespace {

std::optional<std::string> after(const std::string& text, const std::string& prefix) {
  if (!text.starts_with(prefix)) return std::nullopt;
  return text.substr(prefix.size());
}

// "/dev/sdb3" → disk 1, partition 3; "/dev/nvme0n1p2" → disk 0, partition 2. Nothing: another name.
struct PlainName {
  std::size_t disk = 0;
  std::uint32_t partition = 0;
};
std::optional<PlainName> plain_name(const std::string& device) {
  std::string rest;
  PlainName name;
  bool found = false;
  for (const char* prefix : {"/dev/sd", "/dev/vd", "/dev/xvd", "/dev/hd"}) {
    const auto tail = after(device, prefix);
    if (!tail || tail->empty() || (*tail)[0] < 'a' || (*tail)[0] > 'z') continue;
    name.disk = static_cast<std::size_t>((*tail)[0] - 'a');
    rest = tail->substr(1);
    found = true;
  }
  for (const char* prefix : {"/dev/nvme", "/dev/mmcblk"}) {
    const auto tail = after(device, prefix);
    if (!tail || tail->empty()) continue;
    const std::size_t p = tail->rfind('p');
    const auto end = std::from_chars(tail->data(), tail->data() + tail->size(), name.disk);
    if (p == std::string::npos || end.ec != std::errc()) continue;
    rest = tail->substr(p + 1);
    found = true;
  }
  if (!found) return std::nullopt;
  if (rest.empty()) return name;
  const auto end = std::from_chars(rest.data(), rest.data() + rest.size(), name.partition);
  if (end.ec != std::errc() || end.ptr != rest.data() + rest.size()) return std::nullopt;
  return name;
}

// What a system keeps to start from, or to repair itself with: room is not meant for it.
bool is_set_aside(const Layer& layer) {
  if (layer.partition && (layer.partition->purpose == PartitionPurpose::rescue ||
                          layer.partition->purpose == PartitionPurpose::reserved))
    return true;
  if (!layer.content.is_usual_target() || layer.content.filesystem() == nullptr) return false;
  static const std::vector<std::string> labels{"system reserved", "reserved", "recovery", "winre"};
  if (std::find(labels.begin(), labels.end(), fold_case(layer.content.label)) == labels.end())
    return false;
  return layer.content.filesystem_kind()->found_by_position;
}

}  // namespace

// The root filesystem is the one that holds an fstab; the first such counts.
Filesystem* Guest::read_fstab() {
  std::vector<Layer*> changeable = all_layers();
  std::erase_if(changeable, [](const Layer* layer) { return layer->is_inner(); });
  Layer* root = nullptr;
  for (Layer* layer : changeable) {
    if (!layer->content.filesystem() || root != nullptr) continue;
    try {
      Filesystem& fs = *layer->content.filesystem();
      constexpr std::uint64_t most = 1U << 20;
      const auto text = fs.read_text("/etc/fstab", most);
      if (!text) continue;
      root = layer;
      fstab_ = parse_fstab(*text);
      if (const auto name = fs.read_text("/etc/hostname", 256))
        hostname_ = name->substr(0, name->find_first_of(" \t\r\n"));
      lists_lvm_devices_ = fs.read_text("/etc/lvm/devices/system.devices", most).has_value();
    } catch (const Error&) {
      // A filesystem that cannot be read has no say in names; its audit tells what is wrong.
    }
  }
  for (Layer* layer : changeable) {
    for (const FstabEntry& entry : fstab_) {
      if (!matches(*layer, entry)) continue;
      const bool swap = entry.type == "swap";
      const std::string point = swap ? "swap" : entry.mount_point;
      auto& points = layer->mount_points;
      if ((swap || point.starts_with('/')) &&
          std::find(points.begin(), points.end(), point) == points.end())
        points.push_back(point);
    }
  }
  // An fstab that does not name its own root (a template's, say) still lies in it.
  const auto has_root = [](const Layer* layer) {
    return std::find(layer->mount_points.begin(), layer->mount_points.end(), "/") !=
           layer->mount_points.end();
  };
  const auto all = layers();
  if (root != nullptr && std::none_of(all.begin(), all.end(), has_root))
    root->mount_points.insert(root->mount_points.begin(), "/");
  for (Layer* layer : changeable)
    if (has_root(layer)) layer->is_system = true;
  return root == nullptr ? nullptr : root->content.filesystem();
}

std::vector<Layer*> Guest::all_layers() {
  std::vector<Layer*> all;
  const auto add = [&](Layer& layer) { all.push_back(&layer); };
  for (Disk& disk : disks_)
    for (Layer& layer : disk.layers) for_each_layer(layer, add);
  for (VolumeGroup& group : groups_)
    for (Layer& layer : group.volumes) for_each_layer(layer, add);
  return all;
}

// A volume with a registry holds the system, and knows the letters of all.
void Guest::read_letters() {
  std::vector<DriveLetter> letters;
  for (Layer* layer : all_layers()) {
    layer->is_set_aside = is_set_aside(*layer);
    if (!layer->content.filesystem() || layer->is_system || layer->is_inner()) continue;
    try {
      const auto hive = layer->content.filesystem()->file("Windows/System32/config/SYSTEM");
      if (!hive) continue;
      layer->is_system = true;
      layer->is_set_aside = false;
      if (letters.empty()) letters = read_drive_letters(*hive);
    } catch (const Error&) {
      // What cannot be read has no say in names.
    }
  }
  for (Layer* layer : all_layers())
    for (const DriveLetter& letter : letters)
      if (matches(*layer, letter))
        layer->mount_points.push_back(std::string(1, letter.letter) + ":");
}

bool Guest::matches(const Layer& layer, const DriveLetter& letter) const {
  const Disk& disk = disks_[layer.disk];
  if (!layer.partition || !disk.table || layer.is_inner()) return false;
  if (letter.partition) return layer.partition->part_uuid == guid_text(*letter.partition);
  return disk.table->facts().kind == TableKind::mbr &&
         disk.table->facts().id == fmt::format("{:08x}", letter.disk_signature) &&
         layer.offset.value() == letter.offset;
}

bool Guest::matches(const Layer& layer, const FstabEntry& entry) const {
  const auto same = [](const std::string& a, const std::string& b) {
    return !b.empty() && fold_case(a) == fold_case(b);
  };
  const auto value = [&](const std::string& tag, const std::string& folder) {
    auto found = after(entry.device, tag + "=");
    return found ? found : after(entry.device, "/dev/disk/by-" + folder + "/");
  };
  if (const auto uuid = value("UUID", "uuid")) return same(*uuid, layer.content.uuid);
  if (const auto label = value("LABEL", "label"))
    return !label->empty() && *label == layer.content.label;
  if (layer.volume) return matches_volume(layer, entry.device);
  if (const auto uuid = value("PARTUUID", "partuuid"))
    return layer.partition && same(*uuid, layer.partition->part_uuid);
  if (const auto label = value("PARTLABEL", "partlabel"))
    return layer.partition && !label->empty() && *label == layer.partition->label;
  if (const auto plain = plain_name(entry.device))
    return plain->disk == layer.disk &&
           plain->partition == (layer.partition ? layer.partition->number : 0);
  return false;
}

// The names that a volume has in a running guest.
bool Guest::matches_volume(const Layer& layer, const std::string& device) const {
  const lvm::Group& group = group_of(layer).open.group;
  const lvm::Volume& volume = volume_of(layer);
  const std::string mapped = lvm::mapper_name(group.name, volume.name);
  return device == "/dev/mapper/" + mapped || device == "/dev/" + group.name + "/" + volume.name ||
         device == "/dev/disk/by-id/dm-name-" + mapped ||
         device == "/dev/disk/by-id/dm-uuid-LVM-" + group.id + volume.id;
}

}  // namespace jh

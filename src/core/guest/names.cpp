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
bool is_set_aside(const Place& place) {
  if (place.partition &&
      (place.partition->type_name == "rescue" || place.partition->type_name == "reserved"))
    return true;
  if (!place.content.is_usual_target() || place.content.filesystem == nullptr) return false;
  static const std::vector<std::string> labels{"system reserved", "reserved", "recovery", "winre"};
  if (std::find(labels.begin(), labels.end(), fold_case(place.content.label)) == labels.end())
    return false;
  return place.content.filesystem_kind->found_by_position;
}

}  // namespace

// The root filesystem is the one that holds an fstab; the first such counts.
Filesystem* Guest::read_fstab() {
  const std::vector<Place*> changeable = all_places();
  Place* root = nullptr;
  for (Place* place : changeable) {
    if (!place->content.filesystem || root != nullptr) continue;
    try {
      Filesystem& fs = *place->content.filesystem;
      constexpr std::uint64_t most = 1U << 20;
      const auto text = fs.read_text("/etc/fstab", most);
      if (!text) continue;
      root = place;
      fstab_ = parse_fstab(*text);
      if (const auto name = fs.read_text("/etc/hostname", 256))
        hostname_ = name->substr(0, name->find_first_of(" \t\r\n"));
      lists_lvm_devices_ = fs.read_text("/etc/lvm/devices/system.devices", most).has_value();
    } catch (const Error&) {
      // A filesystem that cannot be read has no say in names; its audit tells what is wrong.
    }
  }
  for (Place* place : changeable) {
    for (const FstabEntry& entry : fstab_) {
      if (!matches(*place, entry)) continue;
      const bool swap = entry.type == "swap";
      const std::string point = swap ? "swap" : entry.mount_point;
      auto& points = place->mount_points;
      if ((swap || point.starts_with('/')) &&
          std::find(points.begin(), points.end(), point) == points.end())
        points.push_back(point);
    }
  }
  // An fstab that does not name its own root (a template's, say) still lies in it.
  const auto has_root = [](const Place* place) {
    return std::find(place->mount_points.begin(), place->mount_points.end(), "/") !=
           place->mount_points.end();
  };
  const auto all = places();
  if (root != nullptr && std::none_of(all.begin(), all.end(), has_root))
    root->mount_points.insert(root->mount_points.begin(), "/");
  for (Place* place : changeable)
    if (has_root(place)) place->is_system = true;
  return root == nullptr ? nullptr : root->content.filesystem.get();
}

std::vector<Place*> Guest::all_places() {
  std::vector<Place*> all;
  for (Disk& disk : disks_)
    for (Place& place : disk.places) all.push_back(&place);
  for (VolumeGroup& group : groups_)
    for (Place& place : group.volumes) all.push_back(&place);
  return all;
}

// A volume with a registry holds the system, and knows the letters of all.
void Guest::read_letters() {
  std::vector<DriveLetter> letters;
  for (Place* place : all_places()) {
    place->is_set_aside = is_set_aside(*place);
    if (!place->content.filesystem || place->is_system) continue;
    try {
      const auto hive = place->content.filesystem->file("Windows/System32/config/SYSTEM");
      if (!hive) continue;
      place->is_system = true;
      place->is_set_aside = false;
      if (letters.empty()) letters = read_drive_letters(*hive);
    } catch (const Error&) {
      // What cannot be read has no say in names.
    }
  }
  for (Place* place : all_places())
    for (const DriveLetter& letter : letters)
      if (matches(*place, letter))
        place->mount_points.push_back(std::string(1, letter.letter) + ":");
}

bool Guest::matches(const Place& place, const DriveLetter& letter) const {
  const Disk& disk = disks_[place.disk];
  if (!place.partition || !disk.table) return false;
  if (letter.partition) return place.partition->part_uuid == guid_text(*letter.partition);
  return disk.table->facts().kind == TableKind::mbr &&
         disk.table->facts().id == fmt::format("{:08x}", letter.disk_signature) &&
         place.offset.value() == letter.offset;
}

bool Guest::matches(const Place& place, const FstabEntry& entry) const {
  const auto same = [](const std::string& a, const std::string& b) {
    return !b.empty() && fold_case(a) == fold_case(b);
  };
  const auto value = [&](const std::string& tag, const std::string& folder) {
    auto found = after(entry.device, tag + "=");
    return found ? found : after(entry.device, "/dev/disk/by-" + folder + "/");
  };
  if (const auto uuid = value("UUID", "uuid")) return same(*uuid, place.content.uuid);
  if (const auto label = value("LABEL", "label"))
    return !label->empty() && *label == place.content.label;
  if (place.volume) return matches_volume(place, entry.device);
  if (const auto uuid = value("PARTUUID", "partuuid"))
    return place.partition && same(*uuid, place.partition->part_uuid);
  if (const auto label = value("PARTLABEL", "partlabel"))
    return place.partition && !label->empty() && *label == place.partition->label;
  if (const auto plain = plain_name(entry.device))
    return plain->disk == place.disk &&
           plain->partition == (place.partition ? place.partition->number : 0);
  return false;
}

// The names that a volume has in a running guest.
bool Guest::matches_volume(const Place& place, const std::string& device) const {
  const lvm::Group& group = group_of(place).open.group;
  const lvm::Volume& volume = volume_of(place);
  const std::string mapped = lvm::mapper_name(group.name, volume.name);
  return device == "/dev/mapper/" + mapped || device == "/dev/" + group.name + "/" + volume.name ||
         device == "/dev/disk/by-id/dm-name-" + mapped ||
         device == "/dev/disk/by-id/dm-uuid-LVM-" + group.id + volume.id;
}

}  // namespace jh

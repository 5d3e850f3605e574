#include "core/guest/target.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>

#include "core/base/uuid.h"
#include "core/lvm/mapper_name.h"

namespace jh {
namespace {

Amount parse_amount(const std::string& text) {
  if (text == "rest") return {};
  if (!text.ends_with('%')) {
    const Bytes size = parse_size(text);
    if (size == Bytes(0))
      wrong_usage("an amount of nothing", "use a size greater than zero, a percentage, or rest");
    return {Amount::Kind::size, size, 0};
  }
  const std::string number = text.substr(0, text.size() - 1);
  const std::size_t point = number.find('.');
  std::string decimals = point == std::string::npos ? "" : number.substr(point + 1);
  const bool short_enough = decimals.size() <= 2;
  decimals.resize(2, '0');
  const std::string digits = number.substr(0, point) + decimals;
  Amount amount{Amount::Kind::percent, Bytes(0), 0};
  const auto end = std::from_chars(digits.data(), digits.data() + digits.size(), amount.hundredths);
  if (end.ec != std::errc() || end.ptr != digits.data() + digits.size() || !short_enough ||
      amount.hundredths == 0 || amount.hundredths > 10000)
    wrong_usage(fmt::format("\"{}\" is not a share of the room", text),
                "write for example /var=50% (at most 100%, two decimals)");
  return amount;
}

std::optional<std::string> behind(const std::string& text, const std::string& prefix) {
  if (!text.starts_with(prefix)) return std::nullopt;
  return text.substr(prefix.size());
}

bool fits(const Guest& guest, const Layer& layer, const std::string& target) {
  if (const auto label = behind(target, "label:"))
    return !label->empty() &&
           (layer.content.label == *label || (layer.partition && layer.partition->label == *label));
  if (const auto uuid = behind(target, "uuid:"))
    return !uuid->empty() &&
           (fold_case(layer.content.uuid) == fold_case(*uuid) ||
            (layer.partition && fold_case(layer.partition->part_uuid) == fold_case(*uuid)));
  if (std::find(layer.mount_points.begin(), layer.mount_points.end(), target) !=
      layer.mount_points.end())
    return true;
  if (guest.name_of(layer) == target || (target == "system" && layer.is_system)) return true;
  // Letters are no matter of capitals.
  if (target.size() == 2 && target[1] == ':' &&
      std::find(layer.mount_points.begin(), layer.mount_points.end(),
                std::string{static_cast<char>(std::toupper(static_cast<unsigned char>(target[0]))),
                            ':'}) != layer.mount_points.end())
    return true;
  // As the guest's own tools call a volume.
  if (layer.volume) {
    const lvm::Group& group = guest.group_of(layer).open.group;
    const lvm::Volume& volume = guest.volume_of(layer);
    if (target == "/dev/" + group.name + "/" + volume.name ||
        target == "/dev/mapper/" + lvm::mapper_name(group.name, volume.name))
      return true;
  }
  // With several disks, "p3" may still be meant when only one of them has a third partition.
  return layer.partition && !layer.is_inner() &&
         fmt::format("p{}", layer.partition->number) == target;
}

// A name alone: of a volume, or of a group, whose physical volumes are meant.
bool fits_bare_name(const Guest& guest, const Layer& layer, const std::string& target) {
  if (layer.volume) return guest.volume_of(layer).name == target;
  std::size_t pv = 0;
  const VolumeGroup* group = guest.group_on(layer, pv);
  return group != nullptr && group->open.group.name == target;
}

// What lies inside of a layer that a change does not reach into.
void check_in_reach(const Guest& guest, const Layer& layer) {
  if (guest.in_reach(layer)) return;
  const std::string name = guest.name_of(layer);
  std::string below;
  if (layer.is_inner()) {
    const Layer* outer = guest.find(layer.id.outer());
    if (outer != nullptr) below = guest.name_of(*outer);
    if (layer.id.number() == LayerId::payload)
      unsupported(name + " is encrypted, and locked without its key", {},
                  "make " + below + " larger, then " +
                      (outer == nullptr ? "" : outer->content.header().remains));
  } else {
    for (const Layer* device : guest.group_of(layer).devices)
      if (device != nullptr && below.empty()) below = guest.name_of(*device);
  }
  unsupported(fmt::format("{} lies inside of {}, and is only looked at from here", name, below), {},
              "make " + below + " larger, and what is in it from inside the guest");
}

}  // namespace

void check_lies_outside(const Guest& guest, const Layer& layer) {
  if (!layer.is_inner()) return;
  const Layer* outer = guest.find(layer.id.outer());
  unsupported(fmt::format("{} lies on a disk that is kept in {}: it can become larger, not smaller",
                          guest.name_of(layer), outer == nullptr ? "" : guest.name_of(*outer)),
              {}, "make it smaller from inside the guest");
}

std::uint64_t part_of(const Amount& amount, std::uint64_t room) {
  if (amount.kind != Amount::Kind::percent) return room;
  return room / 10000 * amount.hundredths + room % 10000 * amount.hundredths / 10000;
}

Give parse_give(const std::string& text) {
  Give give;
  give.written = text;
  const std::size_t equals = text.rfind('=');
  give.target = text.substr(0, equals);
  if (equals != std::string::npos) give.amount = parse_amount(text.substr(equals + 1));
  if (give.target.size() > 1 && give.target.starts_with('/') && give.target.ends_with('/'))
    give.target.pop_back();
  if (give.target.empty())
    wrong_usage("a target is missing", "write --give TARGET or --give TARGET=AMOUNT");
  return give;
}

std::string list_targets(const Guest& guest) {
  std::string list;
  for (const Layer* layer : guest.layers()) {
    if (layer->content.kind == ContentKind::logical_partitions) continue;
    if (!list.empty()) list += ", ";
    list += guest.name_of(*layer);
    std::string more = layer->content.name;
    for (const std::string& point : layer->mount_points) more += ", " + point;
    if (!layer->content.label.empty()) more += ", label:" + layer->content.label;
    list += " (" + more + ")";
  }
  return list;
}

const Layer* find_target(const Guest& guest, const std::string& target) {
  if (target == "nothing") return nullptr;
  std::vector<const Layer*> found;
  for (const Layer* layer : guest.layers())
    if (fits(guest, *layer, target)) found.push_back(layer);
  if (found.empty())
    for (const Layer* layer : guest.layers())
      if (fits_bare_name(guest, *layer, target)) found.push_back(layer);
  if (found.size() == 1) {
    check_in_reach(guest, *found.front());
    return found.front();
  }
  if (found.empty())
    refuse(fmt::format("this guest has no \"{}\"", target), {}, "it has: " + list_targets(guest));
  std::string names;
  for (const Layer* layer : found) names += (names.empty() ? "" : ", ") + guest.name_of(*layer);
  refuse(fmt::format("\"{}\" fits more than one place: {}", target, names), {}, "name one of them");
}

}  // namespace jh

#include "core/lvm/group.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/checked.h"
#include "core/lvm/device.h"
#include "core/lvm/format.h"

namespace jh::lvm {
namespace {

std::uint64_t need(const Node& node, const char* name, std::uint64_t most = most_extents) {
  const auto number = node.number(name);
  if (!number || *number > most)
    damaged(fmt::format("the group's metadata text gives no sound \"{}\" for {}", name, node.name));
  return *number;
}

bool has(const std::vector<std::string>& words, const char* word) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

}  // namespace

Group::Group(Node text) : text_(std::move(text)) { read(); }

void Group::read() {
  const Node* group = nullptr;
  for (const Node& node : text_.children)
    if (node.kind == Node::Kind::section) {
      if (group != nullptr) damaged("the metadata text describes two groups");
      group = &node;
    }
  if (group == nullptr) damaged("the metadata text describes no group");
  name = group->name;
  id = id_without_hyphens(group->text("id"));
  sequence = need(*group, "seqno", UINT32_MAX);
  extent_size = checked_mul(need(*group, "extent_size", UINT32_MAX), sector);
  if (id.empty() || extent_size == 0)
    damaged("the group's metadata text has no identity or extent size");
  allocation = group->text("allocation_policy");
  pvs.clear();
  volumes.clear();
  blockers.clear();
  pv_index_.clear();
  read_devices(*group);
  holdings_.assign(pvs.size(), {});
  read_volumes(*group);
  for (std::size_t i = 0; i < pvs.size(); ++i) {
    auto& list = holdings_[i];
    std::sort(list.begin(), list.end(),
              [](const Holding& a, const Holding& b) { return a.first < b.first; });
    for (std::size_t k = 1; k < list.size(); ++k)
      if (list[k].first < list[k - 1].first + list[k - 1].count)
        damaged(fmt::format("volumes {} and {} both hold extent {} of {}",
                            volumes[list[k - 1].volume].name, volumes[list[k].volume].name,
                            list[k].first, pvs[i].name));
  }
  free_.assign(pvs.size(), 0);
  for (std::size_t i = 0; i < pvs.size(); ++i)
    for (const ExtentRange& run : free_runs(i)) free_[i] += run.count;
  find_users(*group);
  find_blockers(*group);
}

void Group::read_devices(const Node& group) {
  const Node* devices = group.section("physical_volumes");
  if (devices == nullptr) damaged("the group's metadata text lists no physical volumes");
  for (const Node& node : devices->children) {
    if (node.kind != Node::Kind::section) continue;
    PhysicalVolume pv;
    pv.name = node.name;
    pv.id = id_without_hyphens(node.text("id"));
    if (pv.id.empty()) damaged(fmt::format("{} has no identity", node.name));
    pv.device_size = checked_mul(node.number("dev_size").value_or(0), sector);
    pv.data_start = checked_mul(need(node, "pe_start", UINT64_MAX / sector), sector);
    pv.extents = need(node, "pe_count");
    checked_add(pv.data_start, checked_mul(pv.extents, extent_size));
    pv.tags = node.words("tags");
    pv.allocatable = has(node.words("status"), "ALLOCATABLE");
    pv.missing = has(node.words("flags"), "MISSING") || has(node.words("status"), "MISSING");
    for (const PhysicalVolume& other : pvs)
      if (other.id == pv.id) damaged("two physical volumes of the group have one identity");
    pv_index_[pv.name] = pvs.size();
    pvs.push_back(std::move(pv));
  }
}

void Group::read_volumes(const Node& group) {
  const Node* list = group.section("logical_volumes");
  if (list == nullptr) return;
  for (const Node& node : list->children) {
    if (node.kind != Node::Kind::section) continue;
    Volume volume;
    volume.name = node.name;
    volume.id = id_without_hyphens(node.text("id"));
    volume.status = node.words("status");
    volume.allocation = node.text("allocation_policy");
    volume.tags = node.words("tags");
    volume.visible = has(volume.status, "VISIBLE");
    const std::size_t number = volumes.size();
    for (const Node& part : node.children) {
      if (part.kind != Node::Kind::section) continue;
      Segment segment = read_segment(part, node.name);
      volume.segments.push_back(segment);
      if (!segment.plain()) mark_used(part, segment.count, number);
    }
    std::sort(volume.segments.begin(), volume.segments.end(),
              [](const Segment& a, const Segment& b) { return a.start < b.start; });
    for (const Segment& segment : volume.segments) {
      if (segment.start != volume.extents)
        damaged(fmt::format("the segments of volume {} leave a gap or overlap", volume.name));
      volume.extents = checked_add(volume.extents, segment.count);
      if (!segment.plain()) volume.kind = segment.type;
    }
    if (volume.segments.empty() || need(node, "segment_count") != volume.segments.size())
      damaged(fmt::format("the segments of volume {} are not complete", volume.name));
    if (volume.kind.empty())
      volume.kind = std::any_of(volume.segments.begin(), volume.segments.end(),
                                [](const Segment& s) { return s.stripes.size() > 1; })
                        ? "striped"
                        : "linear";
    volumes.push_back(std::move(volume));
    hold(volumes.back(), number);
  }
}

Segment Group::read_segment(const Node& node, const std::string& volume) {
  Segment segment;
  segment.name = node.name;
  segment.start = need(node, "start_extent");
  segment.count = need(node, "extent_count");
  segment.type = node.text("type");
  const auto corrupt = [&] {
    damaged(fmt::format("{} of volume {} is damaged", node.name, volume));
  };
  if (segment.count == 0 || segment.type.empty()) corrupt();
  if (segment.type != "striped") return segment;
  const Value* stripes = node.entry("stripes");
  const std::uint64_t count = need(node, "stripe_count", 128);
  if (stripes == nullptr || count == 0 || stripes->items.size() != 2 * count ||
      segment.count % count != 0)
    corrupt();
  if (count > 1) segment.stripe_size = checked_mul(need(node, "stripe_size", UINT32_MAX), sector);
  if (count > 1 && (segment.stripe_size == 0 || extent_size % segment.stripe_size != 0)) corrupt();
  std::vector<Stripe> found;
  for (std::size_t i = 0; i < stripes->items.size(); i += 2) {
    const Value& device = stripes->items[i];
    Node number;
    number.set("extent", stripes->items[i + 1]);
    const auto extent = number.number("extent");
    if (device.kind != Value::Kind::text || !extent) corrupt();
    const auto known = pv_index_.find(device.text);
    if (known == pv_index_.end()) {
      segment.type = "on other volumes";
      return segment;
    }
    const std::uint64_t each = segment.count / count;
    const std::uint64_t has_extents = pvs[known->second].extents;
    if (*extent > has_extents || each > has_extents - *extent) corrupt();
    found.push_back({known->second, *extent});
  }
  segment.stripes = std::move(found);
  return segment;
}

void Group::hold(const Volume& volume, std::size_t number) {
  for (std::size_t s = 0; s < volume.segments.size(); ++s) {
    const Segment& segment = volume.segments[s];
    for (std::size_t i = 0; i < segment.stripes.size(); ++i)
      holdings_[segment.stripes[i].pv].push_back(
          {segment.stripes[i].extent, segment.on_each(), number, s, i});
  }
}

// A segment of another kind may lie on devices directly: every list that names a device and an
// extent says so. How much it holds there is taken to be as much as it can.
void Group::mark_used(const Node& segment, std::uint64_t count, std::size_t volume) {
  for (const Node& entry : segment.children) {
    const auto& items = entry.value.items;
    for (std::size_t i = 0; entry.kind == Node::Kind::entry && i + 1 < items.size(); ++i) {
      if (items[i].kind != Value::Kind::text) continue;
      const auto known = pv_index_.find(items[i].text);
      Node number;
      number.set("extent", items[i + 1]);
      const auto extent = number.number("extent");
      if (known == pv_index_.end() || !extent) continue;
      const std::uint64_t has_extents = pvs[known->second].extents;
      if (*extent >= has_extents)
        damaged(fmt::format("{} lies outside of its device", segment.name));
      holdings_[known->second].push_back(
          {*extent, std::min(count, has_extents - *extent), volume, SIZE_MAX, 0});
    }
  }
}

// Volumes of other kinds name what they are built on: thin pools their data, snapshots their
// origin.
void Group::find_users(const Node& group) {
  const Node* list = group.section("logical_volumes");
  if (list == nullptr) return;
  std::map<std::string, std::size_t> by_name;
  for (std::size_t i = 0; i < volumes.size(); ++i) by_name[volumes[i].name] = i;
  const auto used = [&](const std::string& what, const std::string& user) {
    const auto found = by_name.find(what);
    if (found != by_name.end() && what != user) volumes[found->second].used_by = user;
  };
  for (const Node& volume : list->children) {
    for (const Node& segment : volume.children) {
      if (segment.kind != Node::Kind::section || segment.text("type") == "striped") continue;
      for (const Node& entry : segment.children) {
        if (entry.kind != Node::Kind::entry) continue;
        if (entry.value.kind == Value::Kind::text) used(entry.value.text, volume.name);
        for (const Value& item : entry.value.items) used(item.text, volume.name);
      }
    }
  }
}

void Group::find_blockers(const Node& group) {
  const auto block = [&](const std::string& what, const std::string& next) {
    blockers.emplace_back(Status::refused, fmt::format("group {} {}", name, what), "LVM", next);
  };
  const auto status = group.words("status");
  if (has(status, "EXPORTED"))
    block("is exported", "import it in the guest it belongs to, then run again");
  if (!has(status, "RESIZEABLE"))
    block("may not be resized", "let the guest make it resizeable, then run again");
  // One that belongs to a named system is kept from older tools in this way; it is its own.
  const bool is_its_own = has(status, "WRITE_LOCKED") && !group.text("system_id").empty();
  if (!has(status, "WRITE") && !is_its_own)
    block("is read-only", "make it writable in the guest, then run again");
  if (has(status, "PARTIAL")) block("is partial", "repair it in the guest, then run again");
  const std::string lock = group.text("lock_type");
  if (!lock.empty() && lock != "none")
    block(fmt::format("is shared between machines (lock type {})", lock),
          "change it from a machine that takes part in its locking");
  if (has(status, "CLUSTERED") || has(group.words("flags"), "CLUSTERED"))
    block("is shared between machines (clustered)",
          "change it from a machine that takes part in its locking");
  for (const PhysicalVolume& pv : pvs)
    if (pv.missing)
      block(fmt::format("lacks a physical volume ({})", id_with_hyphens(pv.id)),
            "repair it in the guest, then run again");
}

const Volume* Group::find(const std::string& volume) const {
  for (const Volume& v : volumes)
    if (v.name == volume) return &v;
  return nullptr;
}

std::vector<ExtentRange> Group::free_runs(std::size_t pv) const {
  std::vector<ExtentRange> runs;
  std::uint64_t at = 0;
  for (const Holding& held : holdings_[pv]) {
    if (held.first > at) runs.push_back({pv, at, held.first - at});
    at = held.first + held.count;
  }
  if (at < pvs[pv].extents) runs.push_back({pv, at, pvs[pv].extents - at});
  return runs;
}

std::uint64_t Group::free_extents() const {
  std::uint64_t sum = 0;
  for (const std::uint64_t free : free_) sum += free;
  return sum;
}

std::uint64_t Group::total_extents() const {
  std::uint64_t sum = 0;
  for (const PhysicalVolume& pv : pvs) sum += pv.extents;
  return sum;
}

void Group::increment_sequence(const std::string& description, std::uint64_t now) {
  text_.set("description", Value::of(description));
  text_.set("creation_time", Value::of(now));
  for (Node& node : text_.children)
    if (node.name == "creation_time") node.remark.clear();  // the old time in words
  edit([&](Node& group) { group.set("seqno", Value::of(sequence + 1)); });
}

}  // namespace jh::lvm

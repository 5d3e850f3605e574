#include "core/lvm/grow.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/checked.h"

namespace jh::lvm {
namespace {

bool continues(const Segment& last, const Addition& addition) {
  if (last.stripes.size() != addition.stripes.size()) return false;
  for (std::size_t i = 0; i < last.stripes.size(); ++i)
    if (last.stripes[i].pv != addition.stripes[i].pv ||
        last.stripes[i].extent + last.on_each() != addition.stripes[i].extent)
      return false;
  return true;
}

// The volume's own policy, or its group's.
const std::string& policy_of(const Group& group, const Volume& volume) {
  return volume.allocation.empty() || volume.allocation == "inherit" ? group.allocation
                                                                     : volume.allocation;
}

// Whether it keeps a volume to certain physical volumes.
bool is_bound(const std::string& policy) {
  return policy == "contiguous" || policy == "cling" || policy == "cling_by_tags";
}

bool share_a_tag(const std::vector<std::string>& some, const std::vector<std::string>& others) {
  return std::find_first_of(some.begin(), some.end(), others.begin(), others.end()) != some.end();
}

class Allocator {
 public:
  Allocator(const Group& group, const Volume& volume)
      : last_(volume.segments.back()),
        width_(last_.stripes.size()),
        policy_(policy_of(group, volume)) {
    for (std::size_t pv = 0; pv < group.pvs.size(); ++pv) {
      const bool may =
          group.pvs[pv].takes_more() && (!is_bound(policy_) || may_use(group, volume, pv));
      free_.push_back(may ? group.free_runs(pv) : std::vector<ExtentRange>());
    }
  }

  std::vector<Addition> take(std::uint64_t extents) {
    std::uint64_t each = extents / width_;
    std::vector<Addition> additions;
    if (each == 0) return additions;
    take_behind(each, additions);
    while (each != 0 && policy_ != "contiguous" && take_new(each, additions)) {
    }
    return additions;
  }

 private:
  // One that the volume lies on already; by tags, also one that shares a tag with such.
  bool may_use(const Group& group, const Volume& volume, std::size_t pv) const {
    for (const Segment& segment : volume.segments)
      for (const Stripe& stripe : segment.stripes)
        if (stripe.pv == pv || (policy_ == "cling_by_tags" &&
                                share_a_tag(group.pvs[stripe.pv].tags, group.pvs[pv].tags)))
          return true;
    return false;
  }

  // The free run that begins right behind the last segment's stripe.
  ExtentRange* behind(const Stripe& stripe) {
    for (ExtentRange& run : free_[stripe.pv])
      if (run.first == stripe.extent + last_.on_each()) return &run;
    return nullptr;
  }

  void take_behind(std::uint64_t& each, std::vector<Addition>& additions) {
    std::uint64_t most = each;
    for (const Stripe& stripe : last_.stripes) {
      const ExtentRange* run = behind(stripe);
      most = std::min(most, run == nullptr ? 0 : run->count);
    }
    if (most == 0) return;
    Addition addition{most * width_, {}};
    for (const Stripe& stripe : last_.stripes) {
      ExtentRange& run = *behind(stripe);
      addition.stripes.push_back({stripe.pv, run.first});
      cut(run, most);
    }
    each -= most;
    additions.push_back(std::move(addition));
  }

  static void cut(ExtentRange& run, std::uint64_t count) {
    run.first += count;
    run.count -= count;
  }

  // On each device the run that serves best: the smallest that is large enough, or the largest.
  ExtentRange* best_on(std::size_t pv, std::uint64_t each) {
    ExtentRange* best = nullptr;
    for (ExtentRange& run : free_[pv]) {
      if (run.count == 0) continue;
      const bool fits = run.count >= each;
      if (best == nullptr || (fits ? best->count < each || run.count < best->count
                                   : best->count < each && run.count > best->count))
        best = &run;
    }
    return best;
  }

  // One segment on `width_` different devices, as long as it can be.
  bool take_new(std::uint64_t& each, std::vector<Addition>& additions) {
    std::vector<ExtentRange*> runs;
    for (std::size_t pv = 0; pv < free_.size(); ++pv)
      if (ExtentRange* run = best_on(pv, each)) runs.push_back(run);
    if (runs.size() < width_) return false;
    // Those large enough come first, the devices the volume lies on before others; then the
    // largest.
    const auto home = [&](const ExtentRange* run) {
      return std::any_of(last_.stripes.begin(), last_.stripes.end(),
                         [&](const Stripe& stripe) { return stripe.pv == run->pv; });
    };
    std::stable_sort(runs.begin(), runs.end(), [&](const ExtentRange* a, const ExtentRange* b) {
      const std::uint64_t use_a = std::min(a->count, each);
      const std::uint64_t use_b = std::min(b->count, each);
      if (use_a != use_b) return use_a > use_b;
      if (home(a) != home(b)) return home(a);
      return a->count < b->count;
    });
    runs.resize(width_);
    std::uint64_t most = each;
    for (const ExtentRange* run : runs) most = std::min(most, run->count);
    Addition addition{most * width_, {}};
    for (ExtentRange* run : runs) {
      addition.stripes.push_back({run->pv, run->first});
      cut(*run, most);
    }
    each -= most;
    additions.push_back(std::move(addition));
    return true;
  }

  const Segment& last_;
  std::size_t width_;
  std::string policy_;
  std::vector<std::vector<ExtentRange>> free_;
};

// Text fields are in sectors.
Value in_sectors(std::uint64_t bytes) { return Value::of(bytes / sector); }

bool at_end(const Device& device, const MetadataArea& area) {
  return !device.data.empty() && area.place.offset > device.data.front().offset;
}

// Where a metadata area at the end lies on a device of this size.
std::uint64_t end_place(const MetadataArea& area, std::uint64_t size) {
  constexpr std::uint64_t unit = 4096;
  return round_down(checked_sub(size, area.place.size), unit);
}

std::uint64_t data_end(const Device& device, std::uint64_t size) {
  std::uint64_t end = size;
  for (const MetadataArea& area : device.areas)
    if (at_end(device, area)) end = std::min(end, end_place(area, size));
  return end;
}

std::uint64_t extents_on(const Device& device, std::uint64_t start, std::uint64_t size,
                         std::uint64_t extent_size) {
  const std::uint64_t end = data_end(device, size);
  return end <= start ? 0 : (end - start) / extent_size;
}

Device like_first(const OpenGroup& open, std::uint64_t size, const std::string& id) {
  const auto first = std::find_if(open.members.begin(), open.members.end(),
                                  [](const auto& member) { return member.has_value(); });
  ensure(first != open.members.end(), "a group has a physical volume");
  const Device& model = (*first)->device;
  Device device;
  device.id = id;
  device.device_size = size;
  device.extension_flags = model.extension_flags;
  for (const MetadataArea& area : model.areas) {
    MetadataArea fresh;
    fresh.place = area.place;
    fresh.ignored = area.ignored;
    if (at_end(model, area)) fresh.place.offset = end_place(area, size);
    device.areas.push_back(fresh);
  }
  const auto pv = static_cast<std::size_t>(first - open.members.begin());
  device.data.push_back({open.group.pvs[pv].data_start, 0});
  return device;
}

void add_to_text(Group& group, const Device& device, std::uint64_t extents) {
  std::size_t number = group.pvs.size();
  std::string name = fmt::format("pv{}", number);
  const auto taken = [&] {
    return std::any_of(group.pvs.begin(), group.pvs.end(),
                       [&](const PhysicalVolume& pv) { return pv.name == name; });
  };
  while (taken()) name = fmt::format("pv{}", ++number);
  group.edit([&](Node& node) {
    Node& text = node.section("physical_volumes")->add_section(name);
    text.set("id", Value::of(id_with_hyphens(device.id)));
    text.set("device", Value::of("unknown"));  // a hint that the guest renews
    Value status{Value::Kind::list, {}, {Value::of("ALLOCATABLE")}, false};
    text.set("status", status);
    text.set("flags", Value{Value::Kind::list, {}, {}, false});
    text.set("dev_size", in_sectors(device.device_size));
    text.set("pe_start", in_sectors(device.data.front().offset));
    text.set("pe_count", Value::of(extents));
  });
}

}  // namespace

Value stripes_value(const Group& group, const std::vector<Stripe>& stripes) {
  Value list;
  list.kind = Value::Kind::list;
  list.on_lines = true;
  for (const Stripe& stripe : stripes) {
    list.items.push_back(Value::of(std::string_view(group.pvs[stripe.pv].name)));
    list.items.push_back(Value::of(stripe.extent));
  }
  return list;
}

std::vector<Addition> allocate(const Group& group, const Volume& volume, std::uint64_t extents) {
  ensure(volume.plain(), "only plain volumes are made larger");
  return Allocator(group, volume).take(extents);
}

std::uint64_t room(const Group& group, const Volume& volume) {
  if (step_of(volume) != 1 || is_bound(policy_of(group, volume)))
    return total(allocate(group, volume, round_down(most_extents, step_of(volume))));
  // Every free extent will do: no need to say where.
  std::uint64_t sum = 0;
  for (std::size_t pv = 0; pv < group.pvs.size(); ++pv)
    if (group.pvs[pv].takes_more()) sum += group.free_on(pv);
  return sum;
}

std::uint64_t total(const std::vector<Addition>& additions) {
  std::uint64_t sum = 0;
  for (const Addition& addition : additions) sum += addition.count;
  return sum;
}

std::uint64_t step_of(const Volume& volume) { return volume.segments.back().stripes.size(); }

void extend_volume(Group& group, const std::string& name, const std::vector<Addition>& additions) {
  const Volume& volume = *group.find(name);
  Segment last = volume.segments.back();
  std::uint64_t count = volume.segments.size();
  std::uint64_t end = volume.extents;
  // The text is read again once, behind all additions.
  group.edit([&](Node& node) {
    Node& text = *node.section("logical_volumes")->section(name);
    for (const Addition& addition : additions) {
      if (continues(last, addition)) {
        last.count += addition.count;
        text.section(last.name)->set("extent_count", Value::of(last.count));
      } else {
        std::string fresh = fmt::format("segment{}", ++count);
        for (std::uint64_t i = count; text.section(fresh) != nullptr; ++i)
          fresh = fmt::format("segment{}", i + 1);
        Node& segment = text.add_section(fresh);
        segment.set("start_extent", Value::of(end));
        segment.set("extent_count", Value::of(addition.count));
        segment.set("type", Value::of("striped"));
        segment.set("stripe_count", Value::of(std::uint64_t{addition.stripes.size()}));
        if (addition.stripes.size() > 1) segment.set("stripe_size", in_sectors(last.stripe_size));
        segment.set("stripes", stripes_value(group, addition.stripes));
        last = Segment{fresh, end, addition.count, "striped", last.stripe_size, addition.stripes};
      }
      end += addition.count;
    }
    text.set("segment_count", Value::of(count));
  });
}

std::uint64_t extents_of(const OpenGroup& open, std::size_t pv, std::uint64_t size) {
  return extents_on(open.members[pv]->device, open.group.pvs[pv].data_start, size,
                    open.group.extent_size);
}

void set_device_size(OpenGroup& open, std::size_t pv, std::uint64_t size) {
  const std::uint64_t extents = extents_of(open, pv, size);
  open.group.edit([&](Node& node) {
    Node& text = *node.section("physical_volumes")->section(open.group.pvs[pv].name);
    text.set("dev_size", in_sectors(size));
    text.set("pe_count", Value::of(extents));
  });
}

void resize_device(OpenGroup& open, std::size_t pv, std::uint64_t size) {
  set_device_size(open, pv, size);
  Member& member = *open.members[pv];
  Device& device = member.device;
  for (MetadataArea& area : device.areas) {
    if (!at_end(device, area)) continue;
    area.place.offset = end_place(area, size);
    area.text.clear();
    make_area(*member.store, area);
  }
  if (!device.data.empty() && device.data.front().size != 0)
    device.data.front().size = data_end(device, size) - device.data.front().offset;
  device.device_size = size;
  write_label(*member.store, device);
}

std::uint64_t new_extents(const OpenGroup& open, std::uint64_t size) {
  // Each has a name of its own until it is made: there may be several.
  std::string id = std::to_string(open.members.size());
  id.insert(0, id_length - id.size(), '0');
  const Device device = like_first(open, size, id);
  return extents_on(device, device.data.front().offset, size, open.group.extent_size);
}

void make_device(OpenGroup& open, Store& store, const std::string& id) {
  const Device device = like_first(open, store.size(), id);
  add_to_text(open.group, device, new_extents(open, store.size()));
  // What stood there before must not be taken for something.
  write_zeros_where_needed(store, 0, device.data.front().offset);
  Member& member = open.members.emplace_back(Member{open.members.size(), &store, device}).value();
  for (MetadataArea& area : member.device.areas) make_area(store, area);
  write_label(store, device);
}

void plan_device(OpenGroup& open, std::uint64_t size) {
  const Device device = like_first(open, size, std::string(id_length, '0'));
  add_to_text(open.group, device, new_extents(open, size));
  open.members.emplace_back(Member{open.members.size(), nullptr, device});
}

void commit(OpenGroup& open, const std::string& description, std::uint64_t now) {
  open.group.increment_sequence(description, now);
  const std::string text = write_text(open.group.text());
  for (auto& member : open.members) {
    ensure(member.has_value(), "every physical volume is there when a group is written");
    for (MetadataArea& area : member->device.areas)
      if (!area.ignored) write_area(*member->store, area, text);
  }
}

}  // namespace jh::lvm

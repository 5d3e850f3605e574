#include "core/proof/groups.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/proof/verdict.h"

namespace jh {
namespace {

// Whether all of an old segment is where it was, in front of what was added.
bool keeps(const lvm::Volume& now, const lvm::Segment& old) {
  for (const lvm::Segment& segment : now.segments) {
    if (segment.start != old.start) continue;
    bool same = segment.type == old.type && segment.count >= old.count &&
                segment.stripe_size == old.stripe_size &&
                segment.stripes.size() == old.stripes.size();
    for (std::size_t i = 0; same && i < old.stripes.size(); ++i)
      same = segment.stripes[i].pv == old.stripes[i].pv &&
             segment.stripes[i].extent == old.stripes[i].extent;
    return same;
  }
  return false;
}

// Whether a device of the group comes to lie elsewhere.
bool device_moves(const Plan& plan, const VolumeGroup& group) {
  return std::any_of(group.devices.begin(), group.devices.end(), [&](const Layer* device) {
    return device != nullptr && plan.has<step::MovePartition>(device->id);
  });
}

class GroupCheck {
 public:
  GroupCheck(const Guest& guest, const VolumeGroup& before, const VolumeGroup& after,
             const Plan& plan, ContentCheck& contents, Progress& progress)
      : guest_(guest),
        before_(before),
        after_(after),
        old_(before.open.group),
        now_(after.open.group),
        plan_(plan),
        contents_(contents),
        progress_(progress),
        planned_(plan.after.groups.at(old_.name)),
        where_("group " + old_.name) {}

  void run() {
    const auto blockers = after_.open.blockers();
    if (blockers.size() > before_.open.blockers().size())
      proof_failed(blockers.back().what(), where_);
    if (!plan_.changes(before_)) {
      if (lvm::write_text(old_.text()) != lvm::write_text(now_.text()))
        proof_failed("its metadata would change", where_);
      return;
    }
    check_metadata();
    check_devices();
    for (std::size_t i = 0; i < old_.volumes.size(); ++i) check_volume(i);
  }

 private:
  void check_metadata() const {
    const bool commits = planned_.sequence != old_.sequence;
    if (now_.sequence != planned_.sequence) proof_failed("its metadata has another number", where_);
    if (commits && !after_.open.notes.empty()) proof_failed(after_.open.notes.front(), where_);
    if (now_.id != old_.id || now_.extent_size != old_.extent_size ||
        now_.volumes.size() != old_.volumes.size())
      proof_failed("its identity or its list of volumes differs", where_);
  }

  // Those that were there and stay, then the new ones; each with its extents.
  void check_devices() const {
    if (now_.pvs.size() != planned_.devices.size())
      proof_failed("the number of its physical volumes differs", where_);
    for (std::size_t i = 0; i < old_.pvs.size(); ++i) {
      const lvm::PhysicalVolume& pv = old_.pvs[i];
      const auto now = std::find_if(now_.pvs.begin(), now_.pvs.end(),
                                    [&](const auto& other) { return other.id == pv.id; });
      const auto planned = std::find_if(
          planned_.devices.begin(), planned_.devices.end(), [&](const Layout::Device& device) {
            return before_.devices[i] != nullptr && device.layer == before_.devices[i]->id;
          });
      const bool there = now != now_.pvs.end();
      if (before_.devices[i] != nullptr && (planned != planned_.devices.end()) != there)
        proof_failed(fmt::format("its list of devices ({}) differs", pv.name), where_);
      if (there && planned != planned_.devices.end() && now->extents != planned->extents)
        proof_failed(fmt::format("physical volume {} is not as planned", pv.name), where_);
    }
    std::uint64_t extents = 0;
    for (const lvm::PhysicalVolume& pv : now_.pvs) extents += pv.extents;
    if (extents != planned_.extents()) proof_failed("its extents are not as planned", where_);
  }

  void check_volume(std::size_t index) {
    const lvm::Volume& volume = old_.volumes[index];
    const std::string name = old_.name + "/" + volume.name;
    const std::uint64_t extents = planned_.volumes.at(name);
    const lvm::Volume* found = now_.find(volume.name);
    if (found == nullptr || found->id != volume.id || found->extents != extents)
      proof_failed(fmt::format("volume {} is not as planned", volume.name), where_);
    const bool stays =
        !device_moves(plan_, before_) &&
        std::all_of(volume.segments.begin(), volume.segments.end(),
                    [&](const lvm::Segment& segment) { return keeps(*found, segment); });
    if (stays) return;
    if (!plan_.lets_go())
      proof_failed(fmt::format("volume {} does not lie where it did", volume.name), where_);
    // Moved, or cut: its target's tree is compared with all its content; others byte for byte.
    if (std::any_of(plan_.targets.begin(), plan_.targets.end(),
                    [&](const LayerId& layer) { return layer.volume == name; }) &&
        content_is_compared(LayerId(0, name)))
      return;
    const Layer& was = before_.volumes[index];
    if (!was.window) proof_failed("its content cannot be compared", name);
    const Layer& is = after_.volumes[static_cast<std::size_t>(found - now_.volumes.data())];
    Ranges all;
    add_range(all, 0, std::min(was.window->size(), is.size.value()));
    compare_layers(*was.window, &is, all, contents_, name, progress_);
  }

  // As a tree, since it becomes another.
  bool content_is_compared(const LayerId& volume) const {
    return std::any_of(plan_.steps.begin(), plan_.steps.end(), [&](const Step& step) {
      return step.layer.volume == volume.volume &&
             (step.is<step::GrowContent>() || step.is<step::ShrinkContent>());
    });
  }

  const Guest& guest_;
  const VolumeGroup& before_;
  const VolumeGroup& after_;
  const lvm::Group& old_;
  const lvm::Group& now_;
  const Plan& plan_;
  ContentCheck& contents_;
  Progress& progress_;
  const Layout::GroupPlace& planned_;
  std::string where_;
};

}  // namespace

void check_groups(const Guest& before, const Guest& after, const Plan& plan, ContentCheck& contents,
                  Progress& progress) {
  if (after.groups().size() != before.groups().size())
    proof_failed("a volume group is gone", before.disks().front().path);
  for (std::size_t i = 0; i < before.groups().size(); ++i)
    GroupCheck(before, before.groups()[i], after.groups()[i], plan, contents, progress).run();
}

bool moved_in_group(const Guest& before, const Plan& plan, const LayerId& volume) {
  if (volume.volume.empty()) return false;
  if (plan.has<step::MoveExtents>()) return true;
  return device_moves(plan, before.group_of(*before.find(LayerId(volume.disk, volume.volume))));
}

void compare_layers(Store& before, const Layer* after, const Ranges& kept, ContentCheck& contents,
                    const std::string& where, Progress& progress) {
  if (after == nullptr || !after->window) proof_failed("its content cannot be compared", where);
  Store& now = *after->window;
  for (const auto& [start, end] : kept) {
    if (end > before.size() || end > now.size())
      proof_failed("its content cannot be compared", where);
    const std::uint64_t same =
        contents.same_until(before, start, now, start, end - start, progress);
    if (same != end - start)
      proof_failed(fmt::format("its content differs near byte {}", start + same), where);
  }
}

}  // namespace jh

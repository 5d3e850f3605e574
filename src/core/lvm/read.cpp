#include "core/lvm/read.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "core/base/checked.h"
#include "core/store/views.h"

namespace jh::lvm {
namespace {

// The newest text that one device holds.
struct OwnText {
  const std::string* text = nullptr;
  Group group;
};

std::optional<OwnText> newest(const Device& device) {
  std::optional<OwnText> best;
  std::optional<Error> trouble;
  for (const MetadataArea& area : device.areas) {
    if (area.text.empty()) continue;
    if (best && area.text == *best->text) continue;  // the usual second copy
    try {
      Group group(parse_text(area.text));
      if (!best || group.sequence > best->group.sequence) best = {&area.text, std::move(group)};
    } catch (const Error& error) {
      // Another copy may be sound.
      if (error.status() != Status::damaged) throw;
      trouble = error;
    }
  }
  if (!best && trouble) throw *trouble;
  return best;
}

// `text` is the group's newest, of which most areas hold a copy.
void note_areas(OpenGroup& open, const Member& member, const std::string& text) {
  for (const MetadataArea& area : member.device.areas) {
    const std::string where = member.store->name();
    if (area.trouble) {
      open.notes.push_back(
          fmt::format("{}: {}; the next change writes it anew", where, area.trouble->what()));
    } else if (!area.ignored && area.text.empty()) {
      open.notes.push_back(
          fmt::format("{}: a metadata area holds no copy; the next change writes one", where));
    } else if (!area.ignored && area.text != text) {
      std::uint64_t sequence = 0;
      try {
        sequence = Group(parse_text(area.text)).sequence;
      } catch (const Error& error) {
        open.notes.push_back(
            fmt::format("{}: {}; the next change writes it anew", where, error.what()));
        continue;
      }
      if (sequence != open.group.sequence)
        open.notes.push_back(fmt::format(
            "{}: the copy of the group's metadata is older ({}, not {}); the next change renews it",
            where, sequence, open.group.sequence));
    }
  }
}

}  // namespace

std::vector<Error> OpenGroup::blockers() const {
  std::vector<Error> all = group.blockers;
  for (std::size_t i = 0; i < members.size(); ++i)
    if (!members[i])
      all.push_back(
          Error(Status::refused,
                fmt::format("group {} lacks a physical volume: {} ({}) is on none of the given "
                            "disks",
                            group.name, group.pvs[i].name, id_with_hyphens(group.pvs[i].id)),
                "LVM", "name all disks of the guest in one command, in their order")
              .with_reason(Reason::missing_part));
  return all;
}

Groups find_groups(const std::vector<Store*>& places) {
  Groups found;
  std::vector<Member> members;
  std::vector<std::optional<OwnText>> texts;
  for (std::size_t i = 0; i < places.size(); ++i) {
    try {
      if (!recognise(*places[i])) continue;
      members.push_back({i, places[i], read_device(*places[i])});
    } catch (const Error& error) {
      if (error.status() == Status::io) throw;
      found.trouble.push_back({i, error});
    }
  }
  std::map<std::string, std::vector<std::size_t>> by_group;
  for (std::size_t i = 0; i < members.size(); ++i) {
    texts.emplace_back();
    try {
      texts[i] = newest(members[i].device);
      if (texts[i])
        by_group[texts[i]->group.id].push_back(i);
      else
        for (const MetadataArea& area : members[i].device.areas)
          if (area.trouble) throw *area.trouble;
    } catch (const Error& error) {
      if (error.status() == Status::io) throw;
      found.trouble.push_back(
          {members[i].place, error.with_context(places[members[i].place]->name())});
    }
  }
  std::vector<bool> claimed(members.size());
  for (const auto& [id, holders] : by_group) {
    std::size_t best = holders.front();
    for (const std::size_t i : holders)
      if (texts[i]->group.sequence > texts[best]->group.sequence) best = i;
    OpenGroup open{texts[best]->group};
    for (const std::size_t i : holders)
      if (texts[i]->group.sequence == texts[best]->group.sequence &&
          *texts[i]->text != *texts[best]->text)
        open.group.blockers.emplace_back(
            Status::damaged,
            fmt::format("the copies of group {}'s metadata differ", open.group.name), "LVM",
            "let the guest repair the volume group first");
    for (std::size_t i = 0; i < members.size(); ++i) {
      for (std::size_t pv = 0; pv < open.group.pvs.size(); ++pv) {
        if (open.group.pvs[pv].id != members[i].device.id) continue;
        claimed[i] = true;
        if (open.members[pv]) {
          open.group.blockers.emplace_back(Status::refused,
                                           fmt::format("two physical volumes have the identity {}",
                                                       id_with_hyphens(members[i].device.id)),
                                           places[members[i].place]->name(),
                                           "leave out the copy of a disk that does not belong");
          continue;
        }
        open.members[pv] = members[i];
        note_areas(open, members[i], *texts[best]->text);
        const PhysicalVolume& listed = open.group.pvs[pv];
        if (listed.data_start + listed.extents * open.group.extent_size > members[i].store->size())
          open.group.blockers.emplace_back(
              Status::damaged,
              fmt::format("{} is smaller than group {} says", listed.name, open.group.name),
              places[members[i].place]->name(), "see whether its partition was cut off");
      }
    }
    found.groups.push_back(std::move(open));
  }
  for (std::size_t i = 0; i < members.size(); ++i)
    if (!claimed[i]) found.unclaimed.push_back(members[i].place);
  std::sort(found.groups.begin(), found.groups.end(),
            [](const OpenGroup& a, const OpenGroup& b) { return a.group.name < b.group.name; });
  return found;
}

std::unique_ptr<Store> open_volume(const OpenGroup& open, const Volume& volume,
                                   const std::string& name) {
  const std::uint64_t unit = open.group.extent_size;
  std::vector<std::unique_ptr<Store>> parts;
  for (const Segment& segment : volume.segments) {
    if (!segment.plain()) return nullptr;
    std::vector<std::unique_ptr<Store>> stripes;
    for (const Stripe& stripe : segment.stripes) {
      const auto& member = open.members[stripe.pv];
      const std::uint64_t start = open.group.pvs[stripe.pv].data_start + stripe.extent * unit;
      if (!member || start + segment.on_each() * unit > member->store->size()) return nullptr;
      stripes.push_back(
          std::make_unique<WindowStore>(*member->store, start, segment.on_each() * unit, name));
    }
    if (stripes.size() == 1) {
      parts.push_back(std::move(stripes.front()));
    } else {
      parts.push_back(std::make_unique<StripeStore>(std::move(stripes), segment.stripe_size, name));
    }
  }
  return std::make_unique<JoinStore>(std::move(parts), name);
}

}  // namespace jh::lvm

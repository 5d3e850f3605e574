#include "core/array/member.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/array/format.h"
#include "core/base/printable.h"

namespace jh::array {
namespace {

constexpr std::uint64_t sector = 512;

const char* level_name(std::int32_t level) {
  switch (level) {
    case -1:
      return "linear array";
    case 0:
      return "stripe";
    case 1:
      return "mirror";
    case 4:
    case 5:
    case 6:
      return "array with parity";
    case 10:
      return "striped mirror";
    default:
      return "array";
  }
}

bool fits(Store& place, std::uint64_t at, std::uint64_t length) {
  return at <= place.size() && length <= place.size() - at;
}

// Counts only where it says itself that it lies: else it is another one's, of the whole disk say.
std::optional<Member> md1_at(Store& place, std::uint64_t at, const char* version) {
  if (!fits(place, at, sizeof(Md1Superblock))) return std::nullopt;
  const auto super = read_as<Md1Superblock>(place, at);
  if (super.magic.value() != md_magic || super.major_version.value() != 1 ||
      super.super_offset.value() != at / sector)
    return std::nullopt;
  std::string name(super.set_name.data(), super.set_name.size());
  name.resize(std::min(name.find('\0'), name.size()));
  return Member{fmt::format("array superblock {}", version),
                level_name(static_cast<std::int32_t>(super.level.value())), printable(name),
                uuid_text(super.set_uuid)};
}

// A partition and the disk that it ends may have this place in common: of the two it belongs to the
// one whose length it was made for.
template <class Word>
std::optional<Member> md0_in(Store& place, std::uint64_t at) {
  const auto super = read_as<Md0Superblock<Word>>(place, at);
  if (super.magic.value() != md_magic || super.major_version.value() != 0) return std::nullopt;
  constexpr std::uint64_t most_unused = 1024;  // KiB that a member's chunks may leave
  const std::uint64_t room = at / 1024;
  const std::uint64_t size = super.size.value();
  if (size > room || (size != 0 && room - size >= most_unused)) return std::nullopt;
  return Member{
      fmt::format("array superblock 0.{}", super.minor_version.value()),
      level_name(static_cast<std::int32_t>(super.level.value())), "",
      fmt::format("{:08x}:{:08x}:{:08x}:{:08x}", super.set_uuid0.value(), super.set_uuid1.value(),
                  super.set_uuid2.value(), super.set_uuid3.value())};
}

}  // namespace

std::string Member::text() const {
  return fmt::format("member of {} {}{}{}", what.starts_with('a') ? "an" : "a", what,
                     name.empty() ? "" : " ", name);
}

std::optional<Member> recognise(Store& place) {
  const std::uint64_t size = place.size();
  if (auto found = md1_at(place, 0, "1.1")) return found;
  if (auto found = md1_at(place, 4096, "1.2")) return found;
  constexpr std::uint64_t back = 16;  // sectors, then down to a multiple of 8
  if (size / sector > back)
    if (auto found = md1_at(place, round_down(size / sector - back, 8) * sector, "1.0"))
      return found;
  if (size >= 2 * md0_room) {
    const std::uint64_t at = round_down(size, md0_room) - md0_room;
    if (auto found = md0_in<Le32>(place, at)) return found;
    if (auto found = md0_in<Be32>(place, at)) return found;
  }
  for (const Signature& each : signatures) {
    if (each.from_end && each.distance > size) continue;
    const std::uint64_t at = each.from_end ? size - each.distance : each.distance;
    if (holds(place, at, each.bytes)) return Member{"superblock of an array", each.what, "", ""};
  }
  return std::nullopt;
}

const LayerKind kind{
    "array", [](Store& place) -> std::optional<RecognisedLayer> {
      const auto member = recognise(place);
      if (!member) return std::nullopt;
      RecognisedLayer found;
      found.kind = ContentKind::array_member;
      found.facts.name = member->text();
      found.facts.label = member->name;
      found.facts.uuid = member->uuid;
      found.facts.state = "left as it is";
      found.facts.blockers.push_back(
          Error(Status::unsupported, "it is a " + found.facts.name + ", and not a disk of its own",
                member->format,
                "change its size inside the guest, on the array; if it is in no "
                "array any more, let the guest remove the array's superblock first")
              .with_reason(Reason::array_member));
      return found;
    }};

}  // namespace jh::array

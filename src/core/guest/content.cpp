#include "core/guest/content.h"

#include <fmt/format.h>

#include <string_view>
#include <tuple>

#include "core/array/member.h"
#include "core/lvm/device.h"

namespace jh {
namespace {

using namespace std::string_view_literals;

Content content_of(ContentKind kind, const char* name) {
  Content content;
  content.kind = kind;
  content.name = name;
  return content;
}

// Nothing: the superblock cannot be read, or says what cannot be; opening it names the trouble.
std::uint64_t claim_of(const FilesystemKind& kind, Store& place) {
  if (kind.claimed_size == nullptr) return 0;
  try {
    return kind.claimed_size(place);
  } catch (const Error& error) {
    if (error.status() == Status::io) throw;
    return 0;
  }
}

Content open_filesystem(const FilesystemKind& kind, Store& place) {
  OpenedFilesystem opened = kind.open(place);
  Content content;
  static_cast<FilesystemFacts&>(content) = std::move(opened.facts);
  content.kind = ContentKind::filesystem;
  content.filesystem_kind = &kind;
  content.at_rest = std::move(opened.at_rest);
  content.replay = std::move(opened.replay);
  content.filesystem = std::move(opened.filesystem);
  note_claim(content, claim_of(kind, place), Bytes(place.size()));
  return content;
}

}  // namespace

void note_claim(Content& content, std::uint64_t reach, Bytes place_size) {
  if (reach <= place_size.value()) return;
  content.claims = Bytes(reach);
  content.size = content.claims;
  content.state = "longer than its place";
  content.blockers.insert(
      content.blockers.begin(),
      Error(Status::damaged,
            fmt::format("it says that it is {} long, and its place has {}: the rest of it lies "
                        "behind the place, or is lost",
                        human(Bytes(reach)), human(place_size)),
            content.name, "put the end of its place back to where it was")
          .with_reason(Reason::beyond_place));
}

Content recognise_content(Store& place) {
  if (const auto member = array::recognise(place)) {
    Content content = content_of(ContentKind::array_member, "");
    content.name = member->text();
    content.label = member->name;
    content.uuid = member->uuid;
    content.state = "left as it is";
    content.blockers.push_back(
        Error(Status::unsupported, "it is a " + content.name + ", and not a disk of its own",
              member->format,
              "change its size inside the guest, on the array; if it is in no array any more, let "
              "the guest remove the array's superblock first")
            .with_reason(Reason::array_member));
    return content;
  }
  // What it belongs to is seen when all disks are known.
  if (lvm::recognise(place)) return content_of(ContentKind::physical_volume, "physical volume");
  if (const FilesystemKind* kind = kind_in(place)) return open_filesystem(*kind, place);
  for (const auto& [at, mark, name] : {std::tuple{0, "LUKS\xba\xbe"sv, "encrypted (LUKS)"},
                                       std::tuple{3, "-FVE-FS-"sv, "encrypted (by its guest)"}}) {
    if (!holds(place, static_cast<std::uint64_t>(at), mark)) continue;
    Content content = content_of(ContentKind::encrypted, name);
    content.state = "not looked into";
    return content;
  }
  const std::uint64_t look = std::min<std::uint64_t>(place.size(), 1U << 20);
  return range_is_zero(place, 0, look) ? content_of(ContentKind::nothing, "empty")
                                       : content_of(ContentKind::unknown, "unknown content");
}

}  // namespace jh

#include "core/guest/content.h"

#include <string_view>
#include <tuple>

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

Content open_filesystem(const FilesystemKind& kind, Store& place) {
  OpenedFilesystem opened = kind.open(place);
  Content content;
  static_cast<FilesystemFacts&>(content) = std::move(opened.facts);
  content.kind = ContentKind::filesystem;
  content.filesystem_kind = &kind;
  content.at_rest = std::move(opened.at_rest);
  content.settling = std::move(opened.settling);
  content.filesystem = std::move(opened.filesystem);
  return content;
}

}  // namespace

Content recognise_content(Store& place) {
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

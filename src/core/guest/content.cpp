#include "core/guest/content.h"

#include <fmt/format.h>

#include "core/guest/layer_kinds.h"

namespace jh {
namespace {

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
  static_cast<LayerFacts&>(content) = std::move(opened.facts);
  content.kind = ContentKind::filesystem;
  content.inside = FilesystemContent{&kind, std::move(opened.at_rest), std::move(opened.replay),
                                     std::move(opened.filesystem)};
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
  for (const LayerKind* kind : layer_kinds()) {
    std::optional<RecognisedLayer> found = kind->recognise(place);
    if (!found) continue;
    Content content;
    static_cast<LayerFacts&>(content) = std::move(found->facts);
    content.kind = found->kind;
    content.inside = std::move(found->header);
    return content;
  }
  if (const FilesystemKind* kind = kind_in(place)) return open_filesystem(*kind, place);
  const std::uint64_t look = std::min<std::uint64_t>(place.size(), 1U << 20);
  return range_is_zero(place, 0, look) ? content_of(ContentKind::nothing, "empty")
                                       : content_of(ContentKind::unknown, "unknown content");
}

}  // namespace jh

#include "core/fs/named/named.h"

#include <string_view>

#include "core/base/uuid.h"
#include "core/fs/text_at.h"

namespace jh::named {
namespace {

using namespace std::string_view_literals;

// Published places of signature and identity.
struct Places {
  std::uint64_t offset;
  std::string_view signature;
  const char* name;
  std::uint64_t uuid_at;   // 0: none
  std::uint64_t label_at;  // 0: none
  std::size_t label_length;
};

constexpr Places exfat_places{3, "EXFAT   "sv, "exFAT", 0, 0, 0};

template <const Places& places>
bool recognise(Store& place) {
  return holds(place, places.offset, places.signature);
}

template <const Places& places>
OpenedFilesystem open(Store& place) {
  OpenedFilesystem found;
  found.facts.name = places.name;
  found.facts.state = "not looked into";
  if (places.label_at != 0)
    found.facts.label = text_at(place, places.label_at, places.label_length);
  if (places.uuid_at != 0 && places.uuid_at + 16 <= place.size())
    found.facts.uuid = uuid_text(read_as<Uuid>(place, places.uuid_at));
  return found;
}

template <const Places& places>
constexpr FilesystemKind kind_of() {
  FilesystemKind kind{places.name};
  kind.recognise = recognise<places>;
  kind.open = open<places>;
  return kind;
}

}  // namespace

const FilesystemKind exfat = kind_of<exfat_places>();

}  // namespace jh::named

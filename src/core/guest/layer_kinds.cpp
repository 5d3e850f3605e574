// The table of kinds: who adds one adds a line here.
#include "core/guest/layer_kinds.h"

#include "core/array/member.h"
#include "core/luks/luks.h"
#include "core/lvm/device.h"

namespace jh {
namespace {

// Another encryption, known by its name only.
const LayerKind named_encryption{"encrypted by its guest",
                                 [](Store& place) -> std::optional<RecognisedLayer> {
                                   if (!holds(place, 3, "-FVE-FS-")) return std::nullopt;
                                   RecognisedLayer found;
                                   found.kind = ContentKind::encrypted;
                                   found.facts.name = "encrypted (by its guest)";
                                   found.facts.state = "not looked into";
                                   return found;
                                 }};

}  // namespace

const std::vector<const LayerKind*>& layer_kinds() {
  static const std::vector<const LayerKind*> all{&array::kind, &lvm::kind, &luks::kind,
                                                 &named_encryption};
  return all;
}

}  // namespace jh

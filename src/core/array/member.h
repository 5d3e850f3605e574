// Members of arrays: what a place holds is a part of something that the guest puts together, though
// another layer may show through as if it were whole.
#pragma once

#include <optional>
#include <string>

#include "core/layer/layer_kind.h"
#include "core/store/store.h"

namespace jh::array {

struct Member {
  std::string format;  // "array superblock 1.0"
  std::string what;    // "mirror", "block cache"
  std::string name;    // the array's; may be empty
  std::string uuid;    // of the set; may be empty
  /// "member of a mirror moor:0"
  std::string text() const;
};

/// Looks at both ends of the place. Nothing: it is no member of anything that is known. Throws io.
std::optional<Member> recognise(Store& place);

extern const LayerKind kind;

}  // namespace jh::array

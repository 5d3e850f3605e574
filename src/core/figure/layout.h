// The layout figure: each disk and each group as strips side by side, before above after, with
// ribbons that show what moved, grew and appeared.
#pragma once

#include <optional>

#include "core/figure/scene.h"
#include "core/figure/view.h"

namespace jh {

/// One state: `after` is nothing. `planned`: the second state is a plan, nothing has been done.
Scene layout_scene(const GuestView& before, const std::optional<GuestView>& after, bool planned,
                   const Measure& measure);

/// "p2 grew by 1 GiB", "p3 moved": a sentence for each piece that changed; empty where none did.
std::vector<std::string> changes_in_words(const GuestView& before, const GuestView& after);

}  // namespace jh

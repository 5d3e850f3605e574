// The audit of a whole guest, layer by layer, from disk.
#pragma once

#include <string>
#include <vector>

#include "core/base/findings.h"
#include "core/base/progress.h"
#include "core/guest/guest.h"

namespace jh {

struct LayerVerdict {
  enum class Kind { sound, sound_but, damaged, not_looked_into };
  std::string layer;
  std::string verdict;
  Kind kind = Kind::sound;
};

/// Everything that is wrong goes to `findings`; returns a verdict for each layer.
std::vector<LayerVerdict> audit_guest(const Guest& guest, Findings& findings, Progress& progress,
                                      AuditScope scope = AuditScope::full);

/// Throws damaged when the form's own tables are not in order.
void check_image_sound(const Disk& disk);

}  // namespace jh

// Targets: what the user wants larger, in the guest's own words.
#pragma once

#include <optional>
#include <string>

#include "core/guest/guest.h"

namespace jh {

/// How much of the room: a size, a share of it, or all that is left.
struct Amount {
  enum class Kind { rest, size, percent };
  Kind kind = Kind::rest;
  Bytes size;
  std::uint32_t hundredths = 0;  // of a percent
};

/// How much of a room, in whatever unit, an amount that is no size comes to; rounded down.
std::uint64_t part_of(const Amount& amount, std::uint64_t room);

struct Give {
  std::string
      target;  // "/var", "C:", "system", "group/volume", "p3", "label:x", "uuid:x", "nothing"
  Amount amount;
  std::string written;  // as the user wrote it
};

/// Reads "TARGET" or "TARGET=AMOUNT". Throws usage errors.
Give parse_give(const std::string& text);
/// Throws unsupported for what lies inside of a disk that is kept in a layer: it only grows.
void check_lies_outside(const Guest& guest, const Layer& layer);

/// The place a target names; null for "nothing". Throws refused, listing what there is, when no
/// place or more than one fits, and unsupported for targets this release does not handle.
const Layer* find_target(const Guest& guest, const std::string& target);

/// "/, p1, label:ringing": every target of this guest, for messages.
std::string list_targets(const Guest& guest);

}  // namespace jh

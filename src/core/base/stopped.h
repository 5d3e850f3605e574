// The user asked to stop.
#pragma once

#include "core/base/errors.h"

namespace jh {

/// Thrown by a Progress, out of whatever was being done. Work that goes in several sealed steps
/// throws it on with what the finished ones have done.
class Stopped final : public Error {
 public:
  Stopped() : Error(Status::refused, "stopped on your request", {}, {}) {}
  Stopped(std::string where, const std::string& done)
      : Error(Error(Status::refused, "stopped on your request: " + done, std::move(where),
                    "run the same command again to go on")
                  .with_outcome(Outcome::sound)) {}
};

}  // namespace jh

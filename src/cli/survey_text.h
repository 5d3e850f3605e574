#pragma once

#include "cli/session.h"

namespace jh::cli {

/// The survey as text on stdout.
void print_survey(const Session& session, Host& host);

}  // namespace jh::cli

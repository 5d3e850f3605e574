// The version of this library.
#pragma once

namespace jh {

/// "0.2.0": major, minor, patch. Within a major version what is in the headers of plan, change and
/// report stays as it is.
const char* core_version();

}  // namespace jh

#include "core/base/version.h"

namespace jh {

const char* core_version() { return JUNEHEATH_VERSION; }

}  // namespace jh

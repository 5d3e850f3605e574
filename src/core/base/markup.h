// Text that was read from somebody's disk, in HTML and SVG.
#pragma once

#include <string>
#include <string_view>

namespace jh {

/// As text or as a quoted attribute's value: what has a meaning in markup is escaped, and what a
/// reader must not be misled by is spelled out (see printable).
std::string markup_text(std::string_view text);

/// Base64 (RFC 4648, section 4), for data: URLs.
std::string base64(std::string_view bytes);

}  // namespace jh

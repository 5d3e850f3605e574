// UTF-16 text in headers, to and from UTF-8.
#pragma once

#include <string>

#include "core/store/store.h"

namespace jh {

/// Up to the first zero; what is no text becomes a question mark.
std::string text_from_utf16(ConstByteSpan raw, bool big_endian);
/// The units of little-endian text, zeros among them.
std::u16string utf16_units(ConstByteSpan raw);
/// Little-endian, without a zero at its end.
Buffer utf16_from_text(const std::string& text);

}  // namespace jh

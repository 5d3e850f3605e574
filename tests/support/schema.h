// Documents against the published schema, by a validator that is not ours.
#pragma once

#include <string>

namespace jh::test {

/// Empty: the text is a document as docs/schema describes it; otherwise what is wrong.
std::string check_schema(const std::string& text);

}  // namespace jh::test

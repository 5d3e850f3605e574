// LUKS: an encrypted layer. Its header says how it is encrypted and where its payload lies; without
// a key the payload stays locked. It is only read: docs/formats/luks.md.
#pragma once

#include <string>

#include "core/layer/layer_kind.h"

namespace jh::luks {

extern const LayerKind kind;

/// What a header says.
struct Header {
  int version = 0;
  std::string cipher;  // "aes-xts-plain64"
  std::uint32_t key_bits = 0;
  std::uint32_t slots_in_use = 0;
  std::uint32_t slots = 0;  // that there can be; 0: any number
  std::string label;
  std::string uuid;
  std::uint64_t payload_offset = 0;         // bytes
  std::optional<std::uint64_t> fixed_size;  // of the payload; nothing: up to the end of the place
};

/// Reads the header, of version 2 the copy that counts. Throws damaged where it says what cannot
/// be, unsupported for versions that are not known.
Header read_header(Store& place);

}  // namespace jh::luks

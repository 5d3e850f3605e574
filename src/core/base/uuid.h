// 128-bit identities and their two text forms.
#pragma once

#include <array>
#include <cstdint>
#include <string>

namespace jh {

using Uuid = std::array<std::uint8_t, 16>;

/// RFC 4122 byte order, lower case, as filesystems keep it.
std::string uuid_text(const Uuid& id);
/// The first three fields are little-endian (UEFI 2.10, appendix A). Lower case, like everything we
/// print: identities are compared without regard to case.
std::string guid_text(const Uuid& id);
/// Lower case, for comparing what people type with what disks hold.
std::string fold_case(std::string text);
bool is_zero(const Uuid& id);
/// A random identity (RFC 4122, version 4), in the byte order of guid_text.
Uuid random_guid();
/// `length` random letters and digits.
std::string random_letters(std::size_t length);

}  // namespace jh

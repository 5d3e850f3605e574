// The checksums that disk formats use. All take a running value, so that pieces can be chained.
#pragma once

#include <cstdint>
#include <span>

namespace jh {

/// CRC-32 (IEEE 802.3, reflected, initial and final inversion), as GPT uses it (UEFI 2.10, 5.3).
std::uint32_t crc32(std::span<const std::uint8_t> data);
/// The same polynomial without any inversion, from a starting value: LVM2.
std::uint32_t crc32_plain(std::uint32_t seed, std::span<const std::uint8_t> data);
/// CRC-32C (Castagnoli, reflected) WITHOUT any inversion: ext4 and its journal chain it this way.
std::uint32_t crc32c_raw(std::uint32_t seed, std::span<const std::uint8_t> data);
/// CRC-32C with initial and final inversion, as our ledger uses it.
std::uint32_t crc32c(std::span<const std::uint8_t> data);
/// CRC-16 (0x8005 reflected, no inversion), seeded: group descriptors without metadata_csum.
std::uint16_t crc16(std::uint16_t seed, std::span<const std::uint8_t> data);
/// CRC-32 most significant bit first, no inversion: journal commit blocks of the first kind.
std::uint32_t crc32_msb_first(std::uint32_t seed, std::span<const std::uint8_t> data);

}  // namespace jh

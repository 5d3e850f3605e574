#include "core/fs/btrfs/checksum.h"

#include <sodium.h>
#include <xxhash.h>

#include "core/base/checksum.h"

namespace jh::btrfs {

std::size_t checksum_size(std::uint16_t type) {
  switch (type) {
    case sum_type::crc32c:
      return 4;
    case sum_type::xxhash:
      return 8;
    case sum_type::sha256:
    case sum_type::blake2:
      return 32;
    default:
      return 0;
  }
}

Checksum checksum_of(std::uint16_t type, ConstByteSpan bytes) {
  Checksum checksum{};
  switch (type) {
    case sum_type::crc32c:
      put_at(checksum, 0, Le32(crc32c(bytes)));
      break;
    case sum_type::xxhash:
      put_at(checksum, 0, Le64(XXH64(bytes.data(), bytes.size(), 0)));
      break;
    case sum_type::sha256:
      crypto_hash_sha256(checksum.data(), bytes.data(), bytes.size());
      break;
    case sum_type::blake2:
      crypto_generichash(checksum.data(), checksum.size(), bytes.data(), bytes.size(), nullptr, 0);
      break;
    default:
      ensure(false, "the type of the sums was checked");
  }
  return checksum;
}

Checksum block_checksum(std::uint16_t type, ConstByteSpan block) {
  return checksum_of(type, block.subspan(sizeof(Checksum)));
}

}  // namespace jh::btrfs

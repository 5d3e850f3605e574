#include "core/fs/btrfs/checksum.h"

#include <sodium.h>
#include <xxhash.h>

#include "core/base/checksum.h"

namespace jh::btrfs {

std::size_t sum_size(std::uint16_t type) {
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

Sum sum_of(std::uint16_t type, ConstByteSpan bytes) {
  Sum sum{};
  switch (type) {
    case sum_type::crc32c:
      put_at(sum, 0, Le32(crc32c(bytes)));
      break;
    case sum_type::xxhash:
      put_at(sum, 0, Le64(XXH64(bytes.data(), bytes.size(), 0)));
      break;
    case sum_type::sha256:
      crypto_hash_sha256(sum.data(), bytes.data(), bytes.size());
      break;
    case sum_type::blake2:
      crypto_generichash(sum.data(), sum.size(), bytes.data(), bytes.size(), nullptr, 0);
      break;
    default:
      ensure(false, "the type of the sums was checked");
  }
  return sum;
}

Sum block_sum(std::uint16_t type, ConstByteSpan block) {
  return sum_of(type, block.subspan(sizeof(Sum)));
}

}  // namespace jh::btrfs

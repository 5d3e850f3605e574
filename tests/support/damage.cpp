#include "support/damage.h"

#include "support/test.h"

namespace jh::test {

void spoil_each_byte(const MemoryStore& image, const std::vector<SpoiledPlace>& places,
                     const std::function<bool(std::uint64_t at, int change)>& takes,
                     const LookAtDamage& look) {
  int refused = 0;
  int tried = 0;
  for (const SpoiledPlace& place : places)
    for (std::uint64_t at = 0; at < place.length; ++at)
      for (const int change : {0, 1, 2}) {
        if (!takes(at, change)) continue;
        MemoryStore damaged(image, "image");
        Buffer byte = read_buffer(damaged, place.offset + at, 1);
        byte[0] = change == 0 ? 0xFF : change == 1 ? 0 : static_cast<std::uint8_t>(byte[0] ^ 0x10);
        damaged.write(place.offset + at, byte);
        SCOPED_TRACE(fmt::format("{}, byte {}, change {}", place.name, at, change));
        refused += look(damaged) ? 1 : 0;
        ++tried;
      }
  fmt::print("  {} tried, {} refused\n", tried, refused);
  EXPECT_GT(refused, tried / 100);
}

void spoil_at_random(const MemoryStore& image, int rounds, std::mt19937& random,
                     const std::function<std::uint64_t()>& place, const LookAtDamage& look) {
  for (int n = 0; n < rounds; ++n) {
    MemoryStore damaged(image, "image");
    const int hits = 1 + static_cast<int>(random() % 12);
    for (int i = 0; i < hits; ++i) {
      Buffer bytes(1 + random() % 8);
      for (std::uint8_t& b : bytes) b = static_cast<std::uint8_t>(random());
      damaged.write(place(), bytes);
    }
    SCOPED_TRACE(fmt::format("round {}", n));
    look(damaged);
  }
}

}  // namespace jh::test

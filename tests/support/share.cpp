#include "support/share.h"

#include <fmt/format.h>

#include <cstdlib>
#include <random>

#include "core/base/checksum.h"

namespace jh::test {

unsigned seed_of_run() {
  static const unsigned seed = [] {
    const char* wanted = std::getenv("JUNEHEATH_SEED");
    const unsigned taken = wanted != nullptr ? static_cast<unsigned>(std::stoul(wanted))
                                             : std::random_device{}() % 1'000'000;
    fmt::print("  JUNEHEATH_SEED={}\n", taken);
    return taken;
  }();
  return seed;
}

bool is_taken(unsigned share) {
  if (std::getenv("JUNEHEATH_FULL") != nullptr) return true;
  const testing::TestInfo& test = *testing::UnitTest::GetInstance()->current_test_info();
  const std::string name =
      fmt::format("{} {}.{}", seed_of_run(), test.test_suite_name(), test.name());
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(name.data());
  return crc32({bytes, name.size()}) % share == 0;
}

}  // namespace jh::test

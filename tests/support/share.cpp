#include "support/share.h"

#include <ctime>

#include "core/base/checksum.h"
#include "support/test.h"

namespace jh::test {

bool takes_all() { return std::getenv("JUNEHEATH_FULL") != nullptr; }

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
  if (takes_all()) return true;
  const testing::TestInfo& test = *testing::UnitTest::GetInstance()->current_test_info();
  const std::string name =
      fmt::format("{} {}.{}", seed_of_run(), test.test_suite_name(), test.name());
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(name.data());
  return crc32({bytes, name.size()}) % share == 0;
}

bool is_its_turn(unsigned share) {
  if (takes_all()) return true;
  static const unsigned turn = [] {
    const char* wanted = std::getenv("JUNEHEATH_TURN");
    const unsigned taken = wanted != nullptr ? static_cast<unsigned>(std::stoul(wanted))
                                             : static_cast<unsigned>(std::time(nullptr) / 86400);
    fmt::print("  JUNEHEATH_TURN={}\n", taken);
    return taken;
  }();
  const std::string name = testing::UnitTest::GetInstance()->current_test_info()->name();
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(name.data());
  return (crc32({bytes, name.size()}) + turn) % share == 0;
}

int inputs_of(int usual, int full) {
  if (const char* wanted = std::getenv("JUNEHEATH_INPUTS")) return std::stoi(wanted);
  return takes_all() ? full : usual;
}

int rounds_of(int all) { return takes_all() ? all : std::max(1, all / 4); }

std::vector<std::uint64_t> points_of(std::uint64_t last, std::uint64_t share, std::uint64_t end) {
  if (takes_all()) share = 1;
  std::vector<std::uint64_t> points;
  for (std::uint64_t n = 1; n <= last; ++n)
    if (n + end > last || (n + seed_of_run()) % share == 0) points.push_back(n);
  return points;
}

}  // namespace jh::test

#include "core/container/tighten.h"

#include <algorithm>

#include "core/base/checked.h"

namespace jh {

std::vector<Tenant> plan_tightening(std::vector<Tenant> tenants, std::vector<Fixture> fixtures,
                                    std::uint64_t first, std::uint64_t length, std::uint64_t step,
                                    std::uint64_t most) {
  const auto by_place = [](const auto& a, const auto& b) { return a.at < b.at; };
  std::sort(tenants.begin(), tenants.end(), by_place);
  std::sort(fixtures.begin(), fixtures.end(),
            [](const Fixture& a, const Fixture& b) { return a.start < b.start; });
  std::vector<Tenant> moves;
  std::size_t tenant = 0;   // the next one behind the place looked at
  std::size_t fixture = 0;  // likewise
  std::size_t last = tenants.size();
  std::uint64_t place = first;
  const auto next_place = [&](std::uint64_t behind) {
    place = behind <= first ? first : first + round_up(behind - first, step);
  };
  while (last > 0 && moves.size() < most) {
    if (place >= tenants[last - 1].at) break;
    while (tenant < tenants.size() && tenants[tenant].at + length <= place) ++tenant;
    while (fixture < fixtures.size() && fixtures[fixture].end <= place) ++fixture;
    if (fixture < fixtures.size() && fixtures[fixture].start < place + length) {
      next_place(fixtures[fixture].end);
      continue;
    }
    if (tenant < tenants.size() && tenants[tenant].at < place + length) {
      next_place(tenants[tenant].at + length);
      continue;
    }
    moves.push_back(tenants[--last]);
    moves.back().to = place;
    // Those that move are taken from the end, behind all places that are still looked at.
    next_place(place + length);
  }
  return moves;
}

}  // namespace jh

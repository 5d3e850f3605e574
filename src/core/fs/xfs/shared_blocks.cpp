#include "core/fs/xfs/shared_blocks.h"

#include <fmt/format.h>

namespace jh::xfs {

void SharedBlocks::note_count(std::uint64_t start, std::uint64_t end, std::uint64_t references) {
  add_range(all_, start, end);
  counts_.push_back({start, end, references});
}

void SharedBlocks::note_owner(std::uint64_t start, std::uint64_t count) {
  for_each_inside(all_, start, start + count,
                  [&](std::uint64_t from, std::uint64_t to) { owners_.emplace_back(from, to); });
}

std::string SharedBlocks::difference() const {
  // Both change at some places, and hold from there on.
  std::map<std::uint64_t, std::int64_t> steps;
  for (const auto& [start, end] : owners_) {
    ++steps[start];
    --steps[end];
  }
  std::map<std::uint64_t, std::uint64_t> said;
  for (const Count& each : counts_) {
    said[each.start] = each.references;
    said.try_emplace(each.end, 0);
  }
  std::uint64_t owners = 0;
  std::uint64_t counted = 0;
  auto step = steps.begin();
  for (auto next = said.begin(); next != said.end() || step != steps.end();) {
    const bool owner_first =
        next == said.end() || (step != steps.end() && step->first <= next->first);
    const std::uint64_t at = owner_first ? step->first : next->first;
    if (step != steps.end() && step->first == at)
      owners += static_cast<std::uint64_t>((step++)->second);
    if (next != said.end() && next->first == at) counted = (next++)->second;
    if ((owners < 2 ? 0 : owners) != counted)
      return fmt::format("block {} has {} owners, and its reference count says {}", at, owners,
                         counted);
  }
  return {};
}

}  // namespace jh::xfs

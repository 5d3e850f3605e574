#include "core/fs/ext/fast_commit.h"

#include <fmt/format.h>

namespace jh::ext {

using journal::FastType;

std::uint32_t replay_fast_commits(Store&, Journal& journal, std::uint32_t tid) {
  const Buffer first = journal.read(journal.fast_start());
  const auto tag = parse_as<journal::FastTag>(first, 0);
  if (tag.type.value() != static_cast<std::uint16_t>(FastType::head) || tag.length.value() < 8)
    return 0;
  const auto head = parse_as<journal::FastHead>(first, sizeof(tag));
  if (head.tid.value() != tid) return 0;
  unsupported("the journal holds fast commits that were not yet written home", "ext journal",
              "let the guest start and shut down properly, then run again");
}

}  // namespace jh::ext

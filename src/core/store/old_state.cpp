#include "core/store/old_state.h"

namespace jh {

void OldState::read(std::uint64_t offset, ByteSpan out) {
  check_range(offset, out.size());
  stage_.read_old(offset, out);
}

Range OldState::map(std::uint64_t offset, std::uint64_t length) {
  check_range(offset, length);
  if (length == 0) return {offset, 0, true};
  return stage_.map_old(offset, length);
}

void OldState::read_only() const {
  throw Error(Status::internal, "the old state is only read", name(),
              "please report this as a bug");
}

}  // namespace jh

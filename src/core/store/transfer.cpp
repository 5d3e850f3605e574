#include "core/store/transfer.h"

namespace jh {
namespace {

// How much of the piece has to be copied before the places of both can be shared; all of it, where
// they never can.
std::uint64_t head_to_copy(const Location& source, const Location& target, std::uint64_t length) {
  if (source.store == nullptr || target.store == nullptr ||
      source.at % share_alignment != target.at % share_alignment)
    return length;
  return std::min(length, round_up(target.at, share_alignment) - target.at);
}

void copy(Store& from, std::uint64_t offset, Store& to, std::uint64_t target,
          std::uint64_t length) {
  constexpr std::uint64_t most = 1U << 20;
  for (std::uint64_t done = 0; done < length; done += most) {
    const auto step = static_cast<std::size_t>(std::min(most, length - done));
    write_into_zeros(to, target + done, read_buffer(from, offset + done, step));
  }
}

}  // namespace

Transferred transfer(Store& from, std::uint64_t offset, Store& to, std::uint64_t target,
                     std::uint64_t length) {
  Transferred result;
  for (std::uint64_t done = 0; done < length;) {
    const Location source = from.locate(offset + done, length - done);
    const Location place = to.locate(target + done, source.length);
    const std::uint64_t piece = std::min(source.length, place.length);
    const std::uint64_t head = head_to_copy(source, place, piece);
    std::uint64_t step =
        head == 0 ? place.store->share(place.at, *source.store, source.at, piece) : 0;
    result.shared += step;
    if (step == 0) {
      step = head == 0 ? piece : head;
      copy(from, offset + done, to, target + done, step);
      result.copied += step;
    }
    done += step;
  }
  return result;
}

}  // namespace jh

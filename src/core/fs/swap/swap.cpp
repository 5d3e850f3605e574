#include "core/fs/swap/swap.h"

#include "core/fs/swap/format.h"

namespace jh::swap {
namespace {

template <class Word>
void fill(const Header<Word>& header, Facts& facts) {
  facts.size = checked_mul(std::uint64_t{header.last_page.value()} + 1, facts.page_size);
  if (!is_zero(header.uuid)) facts.uuid = uuid_text(header.uuid);
  facts.label.assign(header.label.data(), header.label.size());
  facts.label.resize(std::min(facts.label.find('\0'), facts.label.size()));
}

template <class Word>
void set_last_page(Store& place, std::uint64_t last_page) {
  auto header = read_as<Header<Word>>(place, header_offset);
  header.last_page = checked_cast<std::uint32_t>(last_page);
  place.write(header_offset, bytes_of(header));
}

}  // namespace

std::optional<Facts> read(Store& place) {
  for (const std::uint64_t page : page_sizes) {
    const std::uint64_t at = page - signature.size();
    Facts facts;
    facts.page_size = page;
    for (const std::string_view other : hibernation_signatures)
      facts.hibernated = facts.hibernated || holds(place, at, other);
    if (!facts.hibernated && !holds(place, at, signature)) continue;
    const auto little = read_as<Header<Le32>>(place, header_offset);
    const auto big = read_as<Header<Be32>>(place, header_offset);
    facts.big_endian = big.version.value() == 1;
    if (little.version.value() == 1) {
      fill(little, facts);
    } else if (facts.big_endian) {
      fill(big, facts);
    } else {
      damaged("the swap area's header is of no known version", place.name());
    }
    if (facts.size > place.size())
      damaged("the swap area's header says more than its place holds", place.name());
    return facts;
  }
  return std::nullopt;
}

std::uint64_t usable_size(const Facts& facts, std::uint64_t place_size) {
  // The number of the last page has 32 bits.
  return std::min(round_down(place_size, facts.page_size),
                  (std::uint64_t{1} << 32) * facts.page_size);
}

std::uint64_t smallest_size(const Facts& facts) {
  constexpr std::uint64_t pages = 10;  // what the system's own maker asks for
  return std::min(facts.size, pages * facts.page_size);
}

void resize(Store& place, std::uint64_t size) {
  const auto facts = read(place);
  ensure(facts.has_value() && !facts->hibernated, "this is a swap area in order");
  const std::uint64_t last =
      usable_size(*facts, std::min(size, place.size())) / facts->page_size - 1;
  if (size < facts->size) {
    const std::uint32_t bad = facts->big_endian
                                  ? read_as<Header<Be32>>(place, header_offset).bad_pages.value()
                                  : read_as<Header<Le32>>(place, header_offset).bad_pages.value();
    if (bad != 0)
      unsupported("the swap area has bad pages on record", place.name(),
                  "make it anew inside the guest");
  }
  facts->big_endian ? set_last_page<Be32>(place, last) : set_last_page<Le32>(place, last);
}

}  // namespace jh::swap

#include "core/fs/swap/swap.h"

#include <fmt/format.h>

#include <algorithm>

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

namespace {

// What the header says, whatever its place holds. A page size of 0: its version is not known.
std::optional<Facts> find_header(Store& place) {
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
      facts.page_size = 0;
    }
    return facts;
  }
  return std::nullopt;
}

}  // namespace

std::optional<Facts> read(Store& place) {
  auto facts = find_header(place);
  if (!facts) return std::nullopt;
  if (facts->page_size == 0) damaged("the swap area's header is of no known version", place.name());
  if (facts->size > place.size())
    damaged("the swap area's header says more than its place holds", place.name());
  return facts;
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

namespace {

class SwapArea final : public FilesystemOnDisk {
 public:
  SwapArea(Store& store, Facts facts) : store_(store), facts_(std::move(facts)) {}

  Store& store() override { return store_; }
  Bytes size() const override { return Bytes(facts_.size); }
  Bytes unit() const override { return Bytes(facts_.page_size); }
  Bytes usable(Bytes place_size) const override {
    return Bytes(usable_size(facts_, place_size.value()));
  }
  FilesystemFloor floor() override {
    return {Bytes(smallest_size(facts_)), "the fewest pages of a swap area"};
  }
  ResizePlan plan_resize(Bytes size) override {
    ResizePlan plan{this->size(), usable(size)};
    plan.words = "write its header for the new size";
    plan.bytes_to_write = 4096;
    if (plan.to < floor().size)
      refuse(fmt::format("{} would be left of the swap area, which needs {}", human(plan.to),
                         human(floor().size)),
             {}, "leave it a little more");
    return plan;
  }
  void resize(Bytes size, Progress&) override { swap::resize(store_, size.value()); }
  // Reading its header was the audit.
  void audit(AuditScope, Bytes, Findings&, Progress&) override {}
  std::optional<std::uint64_t> first_kept(std::uint64_t at, std::uint64_t length) override {
    if (at + length <= facts_.page_size) return std::nullopt;
    return std::max(at, facts_.page_size);
  }
  void for_each_free(const std::function<void(std::uint64_t, std::uint64_t)>& visit) override {
    visit(facts_.page_size, facts_.size);
  }
  std::string free_words(const std::string& name) const override {
    return "what " + (name == "swap" ? name : "swap on " + name) + " last held";
  }

 private:
  Store& store_;
  Facts facts_;
};

bool recognise(Store& place) {
  try {
    return read(place).has_value();
  } catch (const Error&) {
    return true;  // there is a signature
  }
}

OpenedFilesystem open(Store& place) {
  OpenedFilesystem found;
  LayerFacts& facts = found.facts;
  facts.name = "swap";
  try {
    const auto area = read(place);
    facts.state = "clean";
    facts.size = Bytes(area->size);
    facts.uuid = area->uuid;
    facts.label = area->label;
    if (area->hibernated) {
      facts.state = "holds a suspended system";
      facts.blockers.push_back(Error(Status::refused,
                                     "a suspended system's memory is in the swap area", "swap",
                                     "resume the guest and shut it down properly, then run again")
                                   .with_reason(Reason::suspended));
    }
    found.filesystem = std::make_unique<SwapArea>(place, *area);
  } catch (const Error& error) {
    facts.state = "damaged";
    facts.blockers.push_back(error);
  }
  return found;
}

std::uint64_t claimed_size(Store& place) {
  const auto facts = find_header(place);
  return facts ? facts->size : 0;
}

bool holds_saved_system(ConstByteSpan head) {
  return std::any_of(page_sizes.begin(), page_sizes.end(), [&](std::uint64_t page) {
    if (page > head.size()) return false;
    const ConstByteSpan mark = head.subspan(page - signature.size(), signature.size());
    return std::any_of(
        hibernation_signatures.begin(), hibernation_signatures.end(), [&](std::string_view other) {
          return std::equal(other.begin(), other.end(), mark.begin(), [](char a, std::uint8_t b) {
            return static_cast<std::uint8_t>(a) == b;
          });
        });
  });
}

std::unique_ptr<FilesystemOnDisk> open_to_change(Store& place) {
  const auto facts = read(place);
  ensure(facts.has_value(), "this is a swap area");
  return std::make_unique<SwapArea>(place, *facts);
}

}  // namespace

const FilesystemKind kind{.name = "swap",
                          .audited = true,
                          .resizable = true,
                          .recognise = recognise,
                          .open = open,
                          .claimed_size = claimed_size,
                          .holds_saved_system = holds_saved_system,
                          .open_to_change = open_to_change};

}  // namespace jh::swap

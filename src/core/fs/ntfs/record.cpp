#include "core/fs/ntfs/record.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/store/utf16.h"

namespace jh::ntfs {
namespace {

constexpr const char* in_record = "NTFS, file record";
constexpr std::size_t unit = 8;

std::size_t aligned(std::size_t size) { return (size + unit - 1) / unit * unit; }

struct Fixups {
  std::size_t at = 0;
  std::size_t sectors = 0;
};

// Told only when something is wrong.
struct Place {
  std::string_view what;
  std::optional<std::uint64_t> number{};
  std::string text() const {
    return number ? fmt::format("{} {}", what, *number) : std::string(what);
  }
};

Fixups fixups_of(ConstByteSpan block, const Place& place) {
  const auto header = parse_as<BlockHeader>(block, 0);
  const Fixups found{header.fixup_offset.value(), header.fixup_count.value() - std::size_t{1}};
  if (header.fixup_count.value() == 0 || found.sectors != block.size() / fixup_sector ||
      found.at % 2 != 0 || found.at + 2 * (found.sectors + 1) > fixup_sector - 2)
    damaged("its protection against torn writes is not where it should be", place.text());
  return found;
}

}  // namespace

void undo_fixups(ByteSpan block, std::string_view magic, std::string_view what,
                 std::optional<std::uint64_t> number) {
  const Place place{what, number};
  const auto header = parse_as<BlockHeader>(block, 0);
  if (std::string_view(header.magic.data(), 4) != magic)
    damaged(fmt::format("it does not begin with {}", magic), place.text());
  const Fixups fixups = fixups_of(block, place);
  for (std::size_t i = 0; i < fixups.sectors; ++i) {
    std::uint8_t* end = block.data() + (i + 1) * fixup_sector - 2;
    if (std::memcmp(end, block.data() + fixups.at, 2) != 0)
      damaged("it was written by halves (a sector of it is older than the others)", place.text());
    std::memcpy(end, block.data() + fixups.at + 2 * (i + 1), 2);
  }
}

void do_fixups(ByteSpan block) {
  const Fixups fixups = fixups_of(block, {in_record});
  auto number = static_cast<std::uint16_t>(parse_as<Le16>(block, fixups.at).value() + 1);
  if (number == 0 || number == 0xFFFF) number = 1;
  Le16 mark;
  mark = number;
  put_at(block, fixups.at, mark);
  for (std::size_t i = 0; i < fixups.sectors; ++i) {
    std::uint8_t* end = block.data() + (i + 1) * fixup_sector - 2;
    std::memcpy(block.data() + fixups.at + 2 * (i + 1), end, 2);
    std::memcpy(end, &mark, 2);
  }
}

Attribute Attribute::parse(std::shared_ptr<const Buffer> record, std::size_t at) {
  const auto header = parse_as<AttributeHeader>(*record, at);
  const std::size_t length = header.length.value();
  if (length % unit != 0 || length < sizeof(ResidentHeader) || length > record->size() - at)
    damaged(fmt::format("an attribute of {} bytes is on record", length), in_record);
  const Attribute found(std::move(record), at, length);
  const auto fits = [&](std::size_t offset, std::size_t bytes) {
    return offset <= length && bytes <= length - offset;
  };
  bool sound =
      header.nonresident <= 1 &&
      (header.name_length == 0 || fits(header.name_offset.value(), 2U * header.name_length));
  if (sound && header.nonresident == 0) {
    const auto near = parse_as<ResidentHeader>(found.raw(), 0);
    sound = fits(near.value_offset.value(), near.value_length.value()) &&
            (near.value_length.value() == 0 || near.value_offset.value() >= sizeof(ResidentHeader));
  } else if (sound) {
    sound = length >= sizeof(NonresidentHeader) + unit;
    if (sound) {
      const auto far = found.far();
      const std::size_t head = far.compression_unit != 0 && far.lowest_vcn.value() == 0
                                   ? sizeof(NonresidentHeader) + 8
                                   : sizeof(NonresidentHeader);
      sound = far.pairs_offset.value() >= head && fits(far.pairs_offset.value(), 1) &&
              far.compression_unit <= 16 && far.highest_vcn.value() + 1 >= far.lowest_vcn.value() &&
              far.highest_vcn.value() + 1 <= std::uint64_t{1} << 48;
    }
  }
  if (!sound) damaged("the header of an attribute contradicts itself", in_record);
  return found;
}

Attribute Attribute::piece_like(const Attribute& first, const ClusterRuns& runs) {
  const std::u16string name = first.name();
  const std::size_t pairs = aligned(sizeof(NonresidentHeader) + 2 * name.size());
  Buffer raw(pairs);
  NonresidentHeader header = first.far();
  header.common.name_offset = static_cast<std::uint16_t>(sizeof(NonresidentHeader));
  header.pairs_offset = static_cast<std::uint16_t>(pairs);
  header.allocated_size = 0;
  header.data_size = 0;
  header.initialized_size = 0;
  header.compression_unit = 0;
  put_at(raw, 0, header);
  std::copy_n(first.raw().begin() + first.common().name_offset.value(), 2 * name.size(),
              raw.begin() + sizeof(NonresidentHeader));
  Attribute piece(std::move(raw));
  piece.set_runs(runs);
  return piece;
}

std::u16string Attribute::name() const {
  const AttributeHeader header = common();
  if (header.name_length == 0) return {};
  return utf16_units(raw().subspan(header.name_offset.value(), 2U * header.name_length));
}

ConstByteSpan Attribute::value() const {
  const auto near = parse_as<ResidentHeader>(raw(), 0);
  return raw().subspan(near.value_offset.value(), near.value_length.value());
}

ClusterRuns Attribute::runs(std::uint64_t volume_clusters) const {
  const NonresidentHeader header = far();
  ClusterRuns found = decode_runs(raw().subspan(header.pairs_offset.value()),
                                  header.lowest_vcn.value(), volume_clusters);
  const std::uint64_t end = found.empty() ? header.lowest_vcn.value() : found.back().vcn_end();
  if (end != header.highest_vcn.value() + 1)
    damaged(fmt::format("a run list ends at cluster {}, its header says {}", end,
                        header.highest_vcn.value() + 1),
            in_record);
  return found;
}

void Attribute::append_facts(Buffer& all) const {
  const std::size_t start = all.size();
  AttributeHeader front = common();
  front.instance = 0;
  if (resident()) {
    all.insert(all.end(), raw().begin(), raw().end());
    put_at(all, start, front);
    return;
  }
  auto header = far();
  header.common = front;
  header.common.length = 0;
  header.common.name_offset = 0;
  header.pairs_offset = 0;
  header.highest_vcn = 0;
  const auto append = [&](ConstByteSpan bytes) {
    all.insert(all.end(), bytes.begin(), bytes.end());
  };
  append(bytes_of(header));
  if (header.compression_unit != 0) append(raw().subspan(sizeof(header), 8));
  if (const std::size_t bytes = 2U * common().name_length; bytes != 0)
    append(raw().subspan(common().name_offset.value(), bytes));
}

void Attribute::set_instance(std::uint16_t instance) {
  auto header = common();
  header.instance = instance;
  set_header(header);
}

void Attribute::set_flags(std::uint16_t flags) {
  auto header = common();
  header.flags = flags;
  set_header(header);
}

void Attribute::replace_tail(std::size_t from, ConstByteSpan tail) {
  Buffer raw = copy();
  raw.resize(from);
  raw.insert(raw.end(), tail.begin(), tail.end());
  raw.resize(aligned(raw.size()));
  auto header = common();
  header.length = static_cast<std::uint32_t>(raw.size());
  put_at(raw, 0, header);
  become(std::move(raw));
}

void Attribute::set_value(ConstByteSpan value) {
  auto near = parse_as<ResidentHeader>(raw(), 0);
  near.value_length = checked_cast<std::uint32_t>(value.size());
  set_header(near);
  replace_tail(near.value_offset.value(), value);
}

void Attribute::set_runs(const ClusterRuns& runs) {
  ensure(!runs.empty(), "a piece of an attribute has clusters");
  NonresidentHeader header = far();
  header.lowest_vcn = runs.front().vcn;
  header.highest_vcn = runs.back().vcn_end() - 1;
  set_header(header);
  replace_tail(header.pairs_offset.value(), encode_runs(runs));
}

void Attribute::set_sizes(std::uint64_t allocated, std::uint64_t data, std::uint64_t initialized) {
  NonresidentHeader header = far();
  header.allocated_size = allocated;
  header.data_size = data;
  header.initialized_size = initialized;
  set_header(header);
}

std::size_t Attribute::size_with(const ClusterRuns& runs) const {
  return aligned(far().pairs_offset.value() + encode_runs(runs).size());
}

Attribute make_resident(std::uint32_t type, ConstByteSpan value) {
  Buffer raw(aligned(sizeof(ResidentHeader) + value.size()));
  ResidentHeader header{};
  header.common.type = type;
  header.common.length = static_cast<std::uint32_t>(raw.size());
  header.common.name_offset = static_cast<std::uint16_t>(sizeof(ResidentHeader));
  header.value_offset = static_cast<std::uint16_t>(sizeof(ResidentHeader));
  header.value_length = static_cast<std::uint32_t>(value.size());
  put_at(raw, 0, header);
  std::copy(value.begin(), value.end(), raw.begin() + sizeof(header));
  return Attribute::parse(std::make_shared<const Buffer>(std::move(raw)), 0);
}

Attribute make_nonresident(std::uint32_t type, const ClusterRuns& runs, std::uint64_t cluster_size,
                           std::uint64_t data_size) {
  const Buffer pairs = encode_runs(runs);
  Buffer raw(aligned(sizeof(NonresidentHeader) + pairs.size()));
  NonresidentHeader header{};
  header.common.type = type;
  header.common.length = static_cast<std::uint32_t>(raw.size());
  header.common.nonresident = 1;
  header.common.name_offset = static_cast<std::uint16_t>(sizeof(NonresidentHeader));
  header.pairs_offset = static_cast<std::uint16_t>(sizeof(NonresidentHeader));
  header.highest_vcn = runs.back().vcn_end() - 1;
  header.allocated_size = runs.back().vcn_end() * cluster_size;
  header.data_size = data_size;
  header.initialized_size = data_size;
  put_at(raw, 0, header);
  std::copy(pairs.begin(), pairs.end(), raw.begin() + sizeof(header));
  return Attribute::parse(std::make_shared<const Buffer>(std::move(raw)), 0);
}

Record Record::blank(std::uint64_t number, const RecordHeader& like) {
  Record record{number, Buffer(like.bytes_allocated.value())};
  RecordHeader header{};
  header.block = like.block;
  header.block.lsn = 0;
  header.sequence = std::uint16_t{1};
  header.first_attribute = like.first_attribute;
  header.bytes_allocated = like.bytes_allocated;
  if (like.block.fixup_offset.value() >= sizeof(RecordHeader))
    header.number = static_cast<std::uint32_t>(number);
  put_at(record.raw, 0, header);
  Le16 mark;
  mark = std::uint16_t{1};
  put_at(record.raw, header.block.fixup_offset.value(), mark);
  return record;
}

Record Record::from_disk(std::uint64_t number, Buffer raw, std::string_view what) {
  Record record{number, std::move(raw)};
  undo_fixups(record.raw, "FILE", what, number);
  return record;
}

std::vector<Attribute> Record::attributes() const {
  const RecordHeader head = header();
  const std::size_t used = head.bytes_used.value();
  std::size_t at = head.first_attribute.value();
  if (used > raw.size() || at < old_record_header || at % unit != 0 || at + 4 > used)
    damaged(fmt::format("record {}: its header contradicts itself", number), in_record);
  std::vector<Attribute> found;
  constexpr std::size_t usual = 6;
  found.reserve(usual);
  std::uint32_t last = 0;
  const auto in_use =
      std::make_shared<const Buffer>(raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(used));
  while (true) {
    if (at + 4 > used)
      damaged(fmt::format("record {}: its attributes have no end", number), in_record);
    const std::uint32_t found_type = parse_as<Le32>(*in_use, at).value();
    if (found_type == type::end) return found;
    if (found_type < last || found_type == 0 || used - at < sizeof(ResidentHeader))
      damaged(fmt::format("record {}: an attribute out of order", number), in_record);
    last = found_type;
    found.push_back(at_place([&] { return fmt::format("record {}", number); },
                             [&] { return Attribute::parse(in_use, at); }));
    at += found.back().size();
  }
}

void Record::set_attributes(const std::vector<Attribute>& attributes) {
  RecordHeader head = header();
  std::size_t at = head.first_attribute.value();
  Buffer fresh(raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(at));
  for (const Attribute& attribute : attributes)
    fresh.insert(fresh.end(), attribute.raw().begin(), attribute.raw().end());
  ensure(fresh.size() + unit <= raw.size(), "the attributes fit their record");
  fresh.insert(fresh.end(), {0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0});
  head.bytes_used = static_cast<std::uint32_t>(fresh.size());
  fresh.resize(raw.size());
  raw = std::move(fresh);
  set_header(head);
}

}  // namespace jh::ntfs

#include "core/container/vhdx/vhdx.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/container/chain.h"
#include "core/container/places.h"
#include "core/container/vhdx/log.h"

namespace jh::vhdx {
namespace {

// The BAT is read in pieces of this size; the largest disk's would fill the memory.
constexpr std::uint64_t page = 64U << 10;

// Nothing: it has a log to be replayed first.
std::optional<Structure> structure_at_rest(Store& file) {
  Structure structure;
  read_headers(file, structure);
  if (!is_zero(structure.header.log)) return std::nullopt;
  read_tables(file, structure);
  return structure;
}

}  // namespace

std::vector<std::string> parent_names(Store& file) {
  const auto structure = structure_at_rest(file);
  return structure && (structure->flags & has_parent) != 0 ? structure->parent_names
                                                           : std::vector<std::string>();
}

std::optional<Uuid> content_identity(Store& file) {
  Structure structure;
  read_headers(file, structure);
  return structure.header.data_write;
}

std::string parent_linkage(Store& file) {
  const auto structure = structure_at_rest(file);
  return structure && (structure->flags & has_parent) != 0 ? structure->parent_linkage
                                                           : std::string();
}

VhdxContainer::VhdxContainer(Store& file, FileResolver* resolver, std::vector<std::string> children)
    : file_(file) {
  read_headers(file, structure_);
  if (!is_zero(structure_.header.log)) {
    const LogReplay log = read_log(file, structure_.header);
    waiting_ = log.writes.size();
    replayed_ = std::make_unique<ScratchStore>(file, std::max(file.size(), log.file_size));
    replay(log, *replayed_);
  }
  read_tables(view(), structure_);
  if ((structure_.flags & has_parent) == 0) return;
  below_ = open_parent(file, resolver, structure_.parent_names, std::move(children));
  if (const auto* parent = dynamic_cast<VhdxContainer*>(below_.get());
      parent != nullptr && !structure_.parent_linkage.empty() &&
      guid_text(parent->structure_.header.data_write) != structure_.parent_linkage)
    refuse("the image's parent was changed since, or is another one", below_->disk().name(),
           "it expects content with the identity " + structure_.parent_linkage);
}

// Kept in memory up to a limit; writes go through, so forgetting one costs only reading it again.
const Buffer& VhdxContainer::bat_page(std::uint64_t index) {
  constexpr std::size_t most_pages = 256;
  const std::uint64_t number = index * 8 / page;
  const auto found = pages_.find(number);
  if (found != pages_.end()) return found->second;
  if (pages_.size() >= most_pages) pages_.clear();
  const std::uint64_t length = std::min(page, structure_.bat.length - number * page);
  return pages_[number] = read_buffer(view(), structure_.bat.offset + number * page,
                                      static_cast<std::size_t>(length));
}

std::uint64_t VhdxContainer::entry(std::uint64_t index) {
  return parse_as<Le64>(bat_page(index), index * 8 % page).value();
}

std::uint64_t VhdxContainer::end_of_zeros(std::uint64_t index) {
  const ConstByteSpan rest = ConstByteSpan(bat_page(index)).subspan(index * 8 % page);
  // Most of a large disk's table is empty: whole pages of it at once.
  if (all_zero(rest)) return index + rest.size() / 8;
  const auto first = std::find_if(rest.begin(), rest.end(), [](std::uint8_t b) { return b != 0; });
  return index + static_cast<std::uint64_t>(first - rest.begin()) / 8;
}

void VhdxContainer::set_entry(std::uint64_t index, std::uint64_t value) {
  entry(index);
  put_at(pages_[index * 8 / page], index * 8 % page, Le64(value));
  file_.write(structure_.bat.offset + index * 8, bytes_of(Le64(value)));
}

Extent VhdxContainer::find(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t block = offset / block_size();
  const std::uint64_t inside = offset % block_size();
  const std::uint64_t wanted = length;
  length = std::min(length, block_size() - inside);
  const std::uint64_t index = structure_.entry_of(block);
  const std::uint64_t found = entry(index);
  const std::uint64_t at = found & place_mask;
  const auto check_place = [&] {
    if (at < unit || at >= view().size())
      damaged(fmt::format("block {} of the disk lies at {}, where no block can be", block, at),
              file_.name(), "take the image from a backup, or let the hypervisor check it");
  };
  switch (static_cast<State>(found & state_mask)) {
    case State::absent:
      if (found == 0) {
        // As many blocks as stand here without one in between that has a place.
        const std::uint64_t last = end_of_zeros(index) - 1;
        const std::uint64_t ratio = structure_.chunk_ratio();
        const std::uint64_t payload = last % (ratio + 1) == ratio ? last - 1 : last;
        const std::uint64_t end = (payload - payload / (ratio + 1) + 1) * block_size();
        length = std::min(wanted, end - offset);
      }
      return {below_ ? Extent::Kind::below : Extent::Kind::zero, length, nullptr, 0};
    case State::undefined:
    case State::zero:
    case State::unmapped:
      return {Extent::Kind::zero, length, nullptr, 0};
    case State::present:
      check_place();
      if (at + inside >= view().size()) return {Extent::Kind::zero, length, nullptr, 0};
      return {Extent::Kind::data, std::min(length, view().size() - at - inside), &view(),
              at + inside};
    case State::partial:
      check_place();
      if (below_) return find_partial(block, at, inside, length);
      break;
  }
  damaged(fmt::format("block {} of the disk is in a state that cannot be ({})", block,
                      found & state_mask),
          file_.name(), "take the image from a backup, or let the hypervisor check it");
}

// Sectors of a block that are here, and others that are the parent's: a bitmap says which.
Extent VhdxContainer::find_partial(std::uint64_t block, std::uint64_t at, std::uint64_t inside,
                                   std::uint64_t length) {
  const std::uint64_t ratio = structure_.chunk_ratio();
  const std::uint64_t bits = entry((block / ratio + 1) * (ratio + 1) - 1);
  const std::uint64_t map = bits & place_mask;
  if (static_cast<State>(bits & state_mask) != State::present || map < unit ||
      checked_add(map, unit) > view().size())
    damaged(fmt::format("the bitmap of block {} is not there", block), file_.name());
  const std::uint64_t first =
      block % ratio * (block_size() / structure_.sector) + inside / structure_.sector;
  const std::uint64_t count = std::min<std::uint64_t>(
      ceil_div(inside % structure_.sector + length, structure_.sector), 32768);
  const Buffer bytes =
      read_buffer(view(), map + first / 8, static_cast<std::size_t>((first % 8 + count + 7) / 8));
  const auto there = [&](std::uint64_t i) {
    return (bytes[(first % 8 + i) / 8] >> ((first + i) % 8) & 1) != 0;
  };
  std::uint64_t run = 1;
  while (run < count && there(run) == there(0)) ++run;
  length = std::min(length, run * structure_.sector - inside % structure_.sector);
  if (!there(0)) return {Extent::Kind::below, length, nullptr, 0};
  if (checked_add(at + inside, length) > view().size())
    damaged(fmt::format("block {} reaches past the file's end", block), file_.name());
  return {Extent::Kind::data, length, &view(), at + inside};
}

void VhdxContainer::put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                               ConstByteSpan content) {
  ensure(!replayed_, "the image is ready for writing");
  // A block that is here in part keeps its place, and is here as a whole now.
  if (const std::uint64_t found = entry(structure_.entry_of(first));
      count == 1 && static_cast<State>(found & state_mask) == State::partial) {
    const std::uint64_t at = found & place_mask;
    Buffer whole(block_size());
    std::copy(content.begin(), content.end(), whole.begin() + static_cast<std::ptrdiff_t>(inside));
    file_.write(at, whole);
    set_entry(structure_.entry_of(first), at | static_cast<std::uint64_t>(State::present));
    return;
  }
  const std::uint64_t at = round_up(file_.size(), unit);
  file_.resize(at + count * block_size());
  write_into_zeros(file_, at + inside, content);
  for (std::uint64_t i = 0; i < count; ++i)
    set_entry(structure_.entry_of(first + i),
              (at + i * block_size()) | static_cast<std::uint64_t>(State::present));
}

void VhdxContainer::drop_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t block = first; block < first + count; ++block) {
    const std::uint64_t found = entry(structure_.entry_of(block));
    if (static_cast<State>(found & state_mask) != State::present) continue;
    const std::uint64_t at = found & place_mask;
    // The block keeps its place, so that the file keeps no unused parts; the host gets its room.
    if (at < file_.size()) file_.discard(at, std::min(block_size(), file_.size() - at));
  }
}

void VhdxContainer::forget_blocks(std::uint64_t first, std::uint64_t count) {
  set_blocks(first, count, below_ ? State::zero : State::absent);
}

void VhdxContainer::uncover_blocks(std::uint64_t first, std::uint64_t count) {
  set_blocks(first, count, State::absent);
}

void VhdxContainer::set_blocks(std::uint64_t first, std::uint64_t count, State state) {
  const auto now = static_cast<std::uint64_t>(state);
  for (std::uint64_t block = first; block < first + count; ++block) {
    const std::uint64_t index = structure_.entry_of(block);
    if (entry(index) != now) set_entry(index, now);
  }
}

ContainerFacts VhdxContainer::facts() {
  ContainerFacts facts;
  facts.format = ImageFormat::vhdx;
  facts.variant = below_ ? "differencing" : "";
  facts.allocation = is_fixed() ? Allocation::full : Allocation::sparse;
  facts.disk_size = Bytes(disk_size());
  facts.file_length = Bytes(file_.size());
  facts.block_size = Bytes(block_size());
  facts.blocks = structure_.blocks();
  facts.limit = "64 TiB";
  facts.identity = guid_text(structure_.header.data_write);
  facts.sector_size = static_cast<std::uint32_t>(structure_.sector);
  if (structure_.sector != 512)
    facts.notes.push_back(fmt::format("its sectors have {} bytes", structure_.sector));
  if (replayed_)
    facts.pending_repairs.push_back(
        fmt::format("replay the {} writes that its log holds", waiting_));
  for (const std::string& note : structure_.notes)
    facts.pending_repairs.push_back("write anew: " + note);
  if (below_) describe_parents(facts, below_.get(), below_->disk().name(), file_.name());
  return facts;
}

// Entries of the block table that have a place in the file, whole or in part.
void VhdxContainer::for_each_place(
    const std::function<void(std::uint64_t index, State state, std::uint64_t at, bool is_bitmap)>&
        visit) {
  const std::uint64_t entries = structure_.entries_for(structure_.disk_size);
  for (std::uint64_t i = 0; i < entries; ++i) {
    const std::uint64_t found = entry(i);
    if (found == 0) {
      i = end_of_zeros(i) - 1;
      continue;
    }
    const auto state = static_cast<State>(found & state_mask);
    if (state == State::present || state == State::partial)
      visit(i, state, found & place_mask,
            i % (structure_.chunk_ratio() + 1) == structure_.chunk_ratio());
  }
}

void VhdxContainer::audit(Findings& findings) {
  const std::string where = file_.name() + ", VHDX";
  for (const std::string& note : structure_.notes) findings.add(where, note);
  Places places;
  places.add(0, unit, "the headers");
  if (const std::uint64_t length = structure_.header.log_length.value(); length != 0)
    places.add(structure_.header.log_offset.value(), length, "the log");
  for (const RegionEntry& region : structure_.regions)
    places.add(region.offset.value(), region.length.value(),
               region.id == bat_region ? "the block table" : "the metadata");
  const std::uint64_t ratio = structure_.chunk_ratio();
  for_each_place([&](std::uint64_t i, State state, std::uint64_t at, bool is_bitmap) {
    if (is_bitmap) {
      places.add(at, unit, "bitmap", i / (ratio + 1));
      return;
    }
    const std::uint64_t block = i - i / (ratio + 1);
    if (block >= structure_.blocks()) return;
    if (state == State::partial && !below_)
      findings.add(where,
                   fmt::format("block {} is there in part, but the disk has no parent", block));
    places.add(at, block_size(), std::min(block_size(), disk_size() - block * block_size()),
               "block", block);
  });
  places.report(where, view().size(), findings);
}

void create(Store& file, std::uint64_t disk_size, bool full, std::uint32_t sector, const Uuid& id) {
  if (disk_size > most_bytes)
    refuse("a VHDX disk reaches 64 TiB at most", file.name(), "choose another form");
  Structure s;
  // Small blocks keep a sparse disk small; a large disk's table must stay within reason.
  s.block_size = (disk_size <= 4ULL << 40 ? 2 : 32) * unit;
  s.disk_size = disk_size;
  s.sector = sector;
  s.flags = full ? leave_allocated : 0;
  s.metadata = {2 * unit, unit};
  s.bat = {3 * unit, round_up(std::max<std::uint64_t>(s.entries_for(disk_size) * 8, 1), unit)};
  const auto region = [](const Uuid& name, const Region& place) {
    RegionEntry entry{};
    entry.id = name;
    entry.offset = place.offset;
    entry.length = static_cast<std::uint32_t>(place.length);
    entry.required = 1;
    return entry;
  };
  s.regions = {region(bat_region, s.bat), region(metadata_region, s.metadata)};
  const std::uint64_t data = s.bat.offset + s.bat.length;
  file.resize(data + (full ? s.blocks() * s.block_size : 0));

  Buffer name(512 + 8);
  std::copy(file_signature.begin(), file_signature.end(), name.begin());
  constexpr std::string_view creator = "juneheath";
  for (std::size_t i = 0; i < creator.size(); ++i)
    name[8 + 2 * i] = static_cast<std::uint8_t>(creator[i]);
  file.write(0, name);
  s.header.signature = {'h', 'e', 'a', 'd'};
  s.header.version = 1;
  s.header.log_length = unit;
  s.header.log_offset = unit;
  s.header.file_write = id;
  s.header.data_write = id;
  write_headers(file, s);
  write_regions(file, s);

  Buffer metadata(table_size + 64);
  std::size_t count = 0;
  std::size_t at = table_size;
  const auto item = [&](const Uuid& what, ConstByteSpan value, std::uint32_t flags) {
    MetadataEntry entry{};
    entry.id = what;
    entry.offset = static_cast<std::uint32_t>(at);
    entry.length = static_cast<std::uint32_t>(value.size());
    entry.flags = flags;
    put_at(metadata, sizeof(MetadataTable) + count++ * sizeof(MetadataEntry), entry);
    std::copy(value.begin(), value.end(), metadata.begin() + static_cast<std::ptrdiff_t>(at));
    at += value.size();
  };
  FileParameters parameters{};
  parameters.block_size = static_cast<std::uint32_t>(s.block_size);
  parameters.flags = s.flags;
  item(file_parameters_item, bytes_of(parameters), item_is_required);
  item(disk_size_item, bytes_of(Le64(disk_size)), item_is_required | item_is_disk);
  item(disk_id_item, bytes_of(id), item_is_required | item_is_disk);
  item(logical_sector_item, bytes_of(Le32(sector)), item_is_required | item_is_disk);
  // Readers want whole physical sectors too.
  item(physical_sector_item, bytes_of(Le32(disk_size % 4096 == 0 ? 4096 : 512)),
       item_is_required | item_is_disk);
  MetadataTable table{};
  std::copy_n("metadata", 8, table.signature.begin());
  table.entries = static_cast<std::uint16_t>(count);
  put_at(metadata, 0, table);
  file.write(s.metadata.offset, metadata);
  if (!full) return;
  VhdxContainer opened(file, nullptr, {});
  Buffer entries(round_up(s.entries_for(disk_size) * 8, 8));
  for (std::uint64_t block = 0; block < s.blocks(); ++block)
    put_at(entries, s.entry_of(block) * 8,
           Le64((data + block * s.block_size) | static_cast<std::uint64_t>(State::present)));
  file.write(s.bat.offset, entries);
}

}  // namespace jh::vhdx

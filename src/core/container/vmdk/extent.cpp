#include "core/container/vmdk/extent.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/compression.h"
#include "core/container/places.h"
#include "core/container/relocate_tail.h"

namespace jh::vmdk {
namespace {

[[noreturn]] void corrupt(Store& file, const std::string& what) {
  damaged("the VMDK extent is corrupt: " + what, file.name(),
          "take the image from a backup, or let the hypervisor check it");
}

}  // namespace

SparseExtent::SparseExtent(Store& file, std::shared_ptr<Container> below, std::uint64_t start)
    : file_(file) {
  below_ = std::move(below);
  below_start_ = start;
  read_header();
}

void SparseExtent::read_header() {
  if (file_.size() < sizeof(SparseHeader)) corrupt(file_, "the file ends inside its header");
  header_ = read_as<SparseHeader>(file_, 0);
  if (std::string_view(header_.magic.data(), 4) != magic) corrupt(file_, "its signature");
  if (header_.directory.value() == directory_in_footer) {
    // A stream has its final header in front of its last marker.
    if (file_.size() < 4 * sector) corrupt(file_, "the file ends before its footer");
    header_ = read_as<SparseHeader>(file_, round_down(file_.size(), sector) - 2 * sector);
    if (std::string_view(header_.magic.data(), 4) != magic ||
        header_.directory.value() == directory_in_footer)
      corrupt(file_, "its footer is missing: the stream was cut off");
  }
  const std::uint32_t version = header_.version.value();
  if (version < 1 || version > 3)
    unsupported(fmt::format("VMDK extents of version {} are not known", version), file_.name());
  if ((header_.flags.value() & flag::line_ends) != 0 &&
      std::string_view(header_.line_ends.data(), 4) != std::string_view("\n \r\n", 4))
    corrupt(file_, "it was transferred as text, which broke it");
  if (is_compressed() && ((header_.flags.value() & flag::markers) == 0 ||
                          header_.compression.value() != compression_deflate))
    unsupported("the VMDK extent is compressed in a way that is not known", file_.name());
  const std::uint64_t grain = header_.grain.value();
  if (!is_power_of_two(grain) || grain < 8 || grain > 131072)
    corrupt(file_, fmt::format("grains of {} sectors", grain));
  if (header_.entries_per_table.value() != entries_per_table)
    corrupt(file_, fmt::format("tables of {} entries", header_.entries_per_table.value()));
  const std::uint64_t capacity = header_.capacity.value();
  if (capacity == 0 || capacity > static_cast<std::uint64_t>(INT64_MAX) / sector)
    corrupt(file_, fmt::format("a capacity of {} sectors", capacity));
  const std::uint64_t tables = tables_for(disk_size());
  directory_ = read_directory(header_.directory.value(), tables);
  if ((header_.flags.value() & flag::spare_tables) != 0 && !is_compressed() &&
      header_.spare_directory.value() != 0)
    spare_ = read_directory(header_.spare_directory.value(), tables);
}

SparseExtent::Directory SparseExtent::read_directory(std::uint64_t at, std::uint64_t tables) const {
  // A limit of ours, by which a directory takes at most 32 MiB.
  if (tables > (8U << 20))
    unsupported(
        fmt::format("a VMDK extent of {} grain tables is larger than can be handled", tables),
        file_.name());
  if (at > INT64_MAX / sector || checked_add(at * sector, checked_mul(tables, 4)) > file_.size())
    corrupt(file_, fmt::format("a directory of {} tables at sector {}", tables, at));
  const Buffer raw = read_buffer(file_, at * sector, static_cast<std::size_t>(tables * 4));
  Directory directory;
  directory.reserve(tables);
  for (std::size_t i = 0; i < raw.size(); i += 4) {
    const std::uint32_t place = parse_as<Le32>(raw, i).value();
    if (place != 0 && (place + table_sectors) * sector > file_.size())
      corrupt(file_, fmt::format("table {} lies at sector {}, past the file's end", i / 4, place));
    directory.push_back(place);
  }
  return directory;
}

std::uint32_t SparseExtent::entry(std::uint64_t grain) {
  constexpr std::size_t most = 8192;
  const std::uint64_t number = grain / entries_per_table;
  if (directory_[number] == 0) return 0;
  auto found = tables_.find(number);
  if (found == tables_.end()) {
    if (tables_.size() >= most) tables_.clear();
    found = tables_
                .emplace(number, read_buffer(file_, std::uint64_t{directory_[number]} * sector,
                                             table_sectors * sector))
                .first;
  }
  return parse_as<Le32>(found->second, grain % entries_per_table * 4).value();
}

Extent SparseExtent::find(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t reach = block_size() * entries_per_table;
  if (directory_[offset / reach] == 0)
    return {Extent::Kind::below, std::min(length, reach - offset % reach), nullptr, 0};
  const std::uint64_t inside = offset % block_size();
  length = std::min(length, block_size() - inside);
  const std::uint32_t found = entry(offset / block_size());
  if (found == 0) return {Extent::Kind::below, length, nullptr, 0};
  if (found == entry_zero && (header_.flags.value() & flag::zero_grains) != 0)
    return {Extent::Kind::zero, length, nullptr, 0};
  if (is_compressed()) return {Extent::Kind::compressed, length, nullptr, 0};
  const std::uint64_t at = std::uint64_t{found} * sector;
  if (at >= file_.size())
    corrupt(file_,
            fmt::format("grain {} lies at {}, past the file's end", offset / block_size(), at));
  // The last grain may be cut short.
  if (at + inside >= file_.size()) return {Extent::Kind::zero, length, nullptr, 0};
  return {Extent::Kind::data, std::min(length, file_.size() - at - inside), &file_, at + inside};
}

void SparseExtent::read_compressed(std::uint64_t offset, ByteSpan out) {
  const std::uint64_t number = offset / block_size();
  const std::uint32_t found = entry(number);
  if (decompressed_.empty() || decompressed_entry_ != found) {
    const std::uint64_t at = std::uint64_t{found} * sector;
    if (at + sizeof(GrainMarker) > file_.size())
      corrupt(file_, fmt::format("grain {} lies past the file's end", number));
    const auto marker = read_as<GrainMarker>(file_, at);
    const std::uint64_t size = marker.size.value();
    if (size == 0 || size > 2 * block_size() || at + sizeof(marker) + size > file_.size() ||
        marker.sector.value() != number * header_.grain.value())
      corrupt(file_, fmt::format("what stands at {} is not grain {}", at, number));
    const Buffer compressed =
        read_buffer(file_, at + sizeof(marker), static_cast<std::size_t>(size));
    decompressed_.resize(std::min(block_size(), disk_size() - number * block_size()));
    decompressed_entry_ = found;
    try {
      decompress(Compression::zlib, compressed, decompressed_);
    } catch (const Error& error) {
      decompressed_.clear();
      throw error.with_context(fmt::format("{}, grain {}", file_.name(), number));
    }
  }
  const std::uint64_t inside = offset % block_size();
  std::copy_n(decompressed_.begin() + static_cast<std::ptrdiff_t>(inside), out.size(), out.begin());
}

// Empty tables at the file's end, read as zeros.
SparseExtent::Directory SparseExtent::make_tables(std::uint64_t count) {
  const std::uint64_t at = round_up(file_.size(), sector);
  if (at + count * table_sectors * sector > most_extent_bytes)
    refuse("the VMDK extent is full: its places are numbers of 32 bits", file_.name());
  file_.resize(at + count * table_sectors * sector);
  Directory made;
  for (std::uint64_t i = 0; i < count; ++i)
    made.push_back(static_cast<std::uint32_t>(at / sector + i * table_sectors));
  return made;
}

void SparseExtent::set_entries(std::uint64_t grain, const std::vector<std::uint32_t>& entries) {
  for (std::size_t done = 0; done < entries.size();) {
    const std::uint64_t number = (grain + done) / entries_per_table;
    const std::uint64_t index = (grain + done) % entries_per_table;
    const std::size_t step =
        std::min<std::size_t>(entries.size() - done, entries_per_table - index);
    const auto add_table = [&](Directory& directory, std::uint64_t at) {
      if (directory.empty() || directory[number] != 0) return;
      directory[number] = make_tables(1).front();
      file_.write(at * sector + number * 4, bytes_of(Le32(directory[number])));
    };
    add_table(directory_, header_.directory.value());
    add_table(spare_, header_.spare_directory.value());
    Buffer raw(step * 4);
    for (std::size_t i = 0; i < step; ++i) put_at(raw, i * 4, Le32(entries[done + i]));
    entry(grain + done);
    std::copy(raw.begin(), raw.end(),
              tables_.at(number).begin() + static_cast<std::ptrdiff_t>(index * 4));
    file_.write(std::uint64_t{directory_[number]} * sector + index * 4, raw);
    if (!spare_.empty()) file_.write(std::uint64_t{spare_[number]} * sector + index * 4, raw);
    done += step;
  }
}

void SparseExtent::put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                              ConstByteSpan content) {
  ensure(!is_compressed(), "a stream is not written in place");
  const std::uint64_t at = round_up(file_.size(), block_size());
  if (at + count * block_size() > most_extent_bytes)
    refuse("the VMDK extent is full: its places are numbers of 32 bits", file_.name());
  file_.resize(at + count * block_size());
  write_into_zeros(file_, at + inside, content);
  std::vector<std::uint32_t> entries;
  for (std::uint64_t i = 0; i < count; ++i)
    entries.push_back(static_cast<std::uint32_t>((at + i * block_size()) / sector));
  set_entries(first, entries);
}

void SparseExtent::drop_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t grain = first; grain < first + count; ++grain) {
    const std::uint32_t found = entry(grain);
    if (!has_zero_mark()) {
      disk().write(grain * block_size(),
                   Buffer(std::min(block_size(), disk_size() - grain * block_size())));
    } else if (below_) {
      set_entries(grain, {entry_zero});
    } else if (found > entry_zero) {
      // The grain keeps its place; the host gets its room.
      const std::uint64_t at = std::uint64_t{found} * sector;
      if (at < file_.size()) file_.discard(at, std::min(block_size(), file_.size() - at));
    }
  }
}

void SparseExtent::forget_blocks(std::uint64_t first, std::uint64_t count) {
  if (below_) return drop_blocks(first, count);
  uncover_blocks(first, count);
}

void SparseExtent::uncover_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t grain = first; grain < first + count; ++grain) {
    if (directory_[grain / entries_per_table] == 0) {
      grain = round_down(grain, entries_per_table) + entries_per_table - 1;
      continue;
    }
    if (entry(grain) != 0) set_entries(grain, {0});
  }
}

void SparseExtent::check_growth(Bytes new_size) {
  if (new_size.value() > most_extent_bytes - (most_extent_bytes >> 6))
    refuse("a sparse VMDK extent reaches just under 2 TiB at most", file_.name(),
           "recast it into another form");
}

void SparseExtent::make_ready() {
  if (!is_unclean()) return;
  header_.unclean = 0;
  write_header();
}

// In place while its last sector has room, else to the end.
void SparseExtent::grow_directory(std::uint64_t at, Directory& directory, std::uint64_t tables,
                                  Le64& field) {
  const std::uint64_t present = directory.size();
  const Directory fresh = make_tables(tables - present);
  directory.insert(directory.end(), fresh.begin(), fresh.end());
  std::uint64_t from = present;
  if (ceil_div(tables * 4, sector) > ceil_div(present * 4, sector)) {
    const std::uint64_t end = round_up(file_.size(), sector);
    file_.resize(end + round_up(tables * 4, sector));
    field = end / sector;
    at = end / sector;
    from = 0;
  }
  Buffer raw((tables - from) * 4);
  for (std::uint64_t i = from; i < tables; ++i) put_at(raw, (i - from) * 4, Le32(directory[i]));
  file_.write(at * sector + from * 4, raw);
}

void SparseExtent::grow(Bytes new_size) {
  if (const std::uint64_t end = end_of_last_block(); end > file_.size()) file_.resize(end);
  const std::uint64_t tables = tables_for(new_size.value());
  if (tables > directory_.size()) {
    if (!spare_.empty())
      grow_directory(header_.spare_directory.value(), spare_, tables, header_.spare_directory);
    grow_directory(header_.directory.value(), directory_, tables, header_.directory);
  }
  header_.capacity = new_size.value() / sector;
  write_header();
}

void SparseExtent::shrink(Bytes new_size) {
  clear_tail(new_size.value());
  const std::uint64_t tables = tables_for(new_size.value());
  const std::uint64_t grains = ceil_div(new_size.value(), block_size());
  // The last table that stays forgets the grains behind the end.
  for (std::uint64_t grain = grains; grain < tables * entries_per_table; ++grain)
    if (entry(grain) != 0) set_entries(grain, {0});
  const auto cut = [&](Directory& directory, std::uint64_t at) {
    if (directory.size() <= tables) return;
    file_.write(at * sector + tables * 4, Buffer((directory.size() - tables) * 4));
    directory.resize(tables);
  };
  cut(directory_, header_.directory.value());
  cut(spare_, header_.spare_directory.value());
  tables_.clear();
  header_.capacity = new_size.value() / sector;
  write_header();
  relocate_tail(UINT64_MAX);
}

std::uint64_t SparseExtent::relocate_tail(std::uint64_t most) {
  std::vector<PinnedRange> pinned{
      {0, std::max<std::uint64_t>(header_.overhead.value(), 1) * sector}};
  const auto fix = [&](std::uint64_t at, std::uint64_t sectors) {
    if (at != 0) pinned.push_back({at * sector, (at + sectors) * sector});
  };
  const std::uint64_t directory = ceil_div(directory_.size() * 4, sector);
  fix(header_.descriptor_offset.value(), header_.descriptor_size.value());
  fix(header_.directory.value(), directory);
  if (!spare_.empty()) fix(header_.spare_directory.value(), directory);
  for (const Directory* tables : {&directory_, &spare_})
    for (const std::uint32_t table : *tables) fix(table, table_sectors);
  std::vector<MovableBlock> movable;
  const std::uint64_t grains = ceil_div(disk_size(), block_size());
  for (std::uint64_t grain = 0; grain < grains; ++grain) {
    if (directory_[grain / entries_per_table] == 0) {
      grain = round_down(grain, entries_per_table) + entries_per_table - 1;
      continue;
    }
    const std::uint32_t found = entry(grain);
    if (found > entry_zero) movable.push_back({std::uint64_t{found} * sector, grain, 0});
  }
  std::uint64_t end = 0;
  for (const PinnedRange& range : pinned) end = std::max(end, range.end);
  // Grains lie where a grain begins, as new ones do.
  const auto moves = plan_tail_relocation(movable, pinned, 0, block_size(), block_size(),
                                          std::max<std::uint64_t>(most / block_size(), 1));
  copy_within(file_, moves, block_size());
  for (const MovableBlock& move : moves)
    set_entries(move.owner, {static_cast<std::uint32_t>(move.to / sector)});
  for (const MovableBlock& block : movable)
    end = std::max(end, std::uint64_t{entry(block.owner)} * sector + block_size());
  file_.resize(std::min(file_.size(), end));
  return moves.size() * block_size();
}

ContainerFacts SparseExtent::facts() {
  ContainerFacts facts;
  facts.format = ImageFormat::vmdk;
  facts.allocation = is_compressed() ? Allocation::compressed : Allocation::sparse;
  facts.disk_size = Bytes(disk_size());
  facts.file_length = Bytes(file_.size());
  facts.block_size = Bytes(block_size());
  facts.blocks = ceil_div(disk_size(), block_size());
  return facts;
}

void SparseExtent::audit(Findings& findings) {
  const std::string where = file_.name() + ", VMDK";
  Places places;  // in sectors
  places.add(0, 1, "the header");
  const std::uint64_t directory = ceil_div(directory_.size() * 4, sector);
  if (header_.descriptor_offset.value() != 0)
    places.add(header_.descriptor_offset.value(), header_.descriptor_size.value(),
               "the descriptor");
  places.add(header_.directory.value(), directory, "the directory");
  if (!spare_.empty())
    places.add(header_.spare_directory.value(), directory, "the redundant directory");
  const std::uint64_t end = ceil_div(file_.size(), sector);
  for (std::uint64_t number = 0; number < directory_.size(); ++number) {
    if (!spare_.empty() && (directory_[number] == 0) != (spare_[number] == 0))
      findings.add(where, fmt::format("only one of the directories knows grain table {}", number));
    if (directory_[number] == 0) continue;
    const std::uint64_t grains = ceil_div(disk_size(), block_size());
    entry(number * entries_per_table);
    const Buffer& table = tables_.at(number);
    if (!spare_.empty() &&
        (spare_[number] == 0 ||
         read_buffer(file_, std::uint64_t{spare_[number]} * sector, table.size()) != table))
      findings.add(where, fmt::format("the two copies of grain table {} differ", number));
    places.add(directory_[number], table_sectors, "table", number);
    if (!spare_.empty() && spare_[number] != 0)
      places.add(spare_[number], table_sectors, "table", number);
    for (std::uint64_t i = 0; i < entries_per_table; ++i) {
      const std::uint64_t grain = number * entries_per_table + i;
      const std::uint32_t found = parse_as<Le32>(table, i * 4).value();
      if (found == 0 || (found == entry_zero && (header_.flags.value() & flag::zero_grains) != 0))
        continue;
      if (grain >= grains) {
        findings.add(where, fmt::format("grain {} lies past the disk's end", grain));
        continue;
      }
      const std::uint64_t length = is_compressed() ? 1 : header_.grain.value();
      if (found >= end)
        findings.add(where, fmt::format("grain {} lies past the file's end", grain));
      else
        places.add(found, length, 1, "grain", grain);
    }
  }
  places.report(where, end, findings);
}

}  // namespace jh::vmdk

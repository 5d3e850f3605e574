#include "core/container/vdi/vdi.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <optional>

#include "core/base/uuid.h"
#include "core/container/chain.h"
#include "core/container/relocate_tail.h"

namespace jh::vdi {
namespace {

[[noreturn]] void corrupt(Store& file, const std::string& what) {
  damaged("the VDI header is corrupt: " + what, file.name(),
          "take the image from a backup, or let the hypervisor check it");
}

bool is_vdi(Store& file) {
  return file.size() >= sizeof(Header) &&
         read_as<Le32>(file, signature_offset).value() == signature;
}

}  // namespace

std::optional<Uuid> identity(Store& file) {
  if (!is_vdi(file)) return std::nullopt;
  return read_as<Header>(file, 0).id;
}

std::optional<Uuid> parent_identity(Store& file) {
  if (!is_vdi(file)) return std::nullopt;
  const auto header = read_as<Header>(file, 0);
  if (is_zero(header.parent)) return std::nullopt;
  return header.parent;
}

std::string find_parent(Store& file, FileResolver& resolver) {
  const auto wanted = parent_identity(file);
  if (!wanted) return {};
  for (const std::string& path : resolver.siblings(file.name())) {
    Store* other = resolver.parent(path);
    if (other != nullptr && identity(*other) == wanted) return path;
  }
  return {};
}

VdiContainer::VdiContainer(Store& file, FileResolver* resolver, std::vector<std::string> children)
    : file_(file) {
  if (file.size() < sizeof(Header)) corrupt(file, "the file ends inside it");
  header_ = read_as<Header>(file, 0);
  const std::uint32_t version = header_.version.value();
  if (version != version_1_1)
    unsupported(fmt::format("VDI version {}.{} is not known", version >> 16, version & 0xffff),
                file.name(), "let the hypervisor convert it to version 1.1");
  if (header_.header_size.value() < header_size_1_1)
    corrupt(file, fmt::format("a length of {} bytes", header_.header_size.value()));
  if (type() == Type::undo || header_.type.value() < 1 || header_.type.value() > 4)
    unsupported(fmt::format("VDI images of kind {} are not known", header_.type.value()),
                file.name());
  const std::uint64_t block = header_.block_size.value();
  if (!is_power_of_two(block) || block < 4096 || block > (256U << 20))
    corrupt(file, fmt::format("blocks of {} bytes", block));
  if (header_.block_extra.value() > block || header_.block_extra.value() % 512 != 0)
    corrupt(file, fmt::format("{} bytes in front of each block", header_.block_extra.value()));
  const std::uint64_t size = header_.disk_size.value();
  if (size > static_cast<std::uint64_t>(INT64_MAX) || size % 512 != 0 ||
      header_.blocks.value() != ceil_div(size, block))
    corrupt(file, fmt::format("{} blocks for a disk of {} bytes", header_.blocks.value(), size));
  const std::uint64_t map_bytes = std::uint64_t{header_.blocks.value()} * 4;
  const std::uint64_t map_at = header_.map_offset.value();
  if (map_at < sizeof(Header) || map_at + map_bytes > file.size() ||
      map_at + map_bytes > header_.data_offset.value())
    corrupt(file, fmt::format("a block map of {} bytes at {}", map_bytes, map_at));
  const std::uint64_t data_bytes =
      file.size() - std::min<std::uint64_t>(file.size(), header_.data_offset.value());
  if (header_.blocks_kept.value() >
      std::max<std::uint64_t>(header_.blocks.value(), ceil_div(data_bytes, stride())))
    corrupt(file, fmt::format("{} blocks are said to be kept", header_.blocks_kept.value()));
  if (header_.blocks.value() > most_entries)
    unsupported(fmt::format("a VDI disk of {} blocks is larger than can be handled",
                            header_.blocks.value()),
                file.name());
  map_.reserve(header_.blocks.value());
  constexpr std::uint64_t extent = 1U << 20;
  for (std::uint64_t done = 0; done < map_bytes; done += extent) {
    const Buffer raw = read_buffer(file, map_at + done, std::min(extent, map_bytes - done));
    for (std::size_t i = 0; i < raw.size(); i += 4) map_.push_back(parse_as<Le32>(raw, i).value());
  }
  if (type() != Type::differencing) return;
  const std::string parent = resolver == nullptr ? std::string() : find_parent(file, *resolver);
  if (parent.empty())
    refuse("the image builds on another one, which is not in its folder", file.name(),
           "its parent has the identity " + guid_text(header_.parent));
  below_ = open_parent(file, resolver, {std::filesystem::absolute(parent).string()},
                       std::move(children));
}

Extent VdiContainer::find(std::uint64_t offset, std::uint64_t length) {
  const std::uint64_t block = offset / block_size();
  const std::uint64_t inside = offset % block_size();
  length = std::min(length, block_size() - inside);
  const std::uint32_t entry = map_[block];
  if (entry == entry_zero) return {Extent::Kind::zero, length, nullptr, 0};
  if (entry == entry_absent) return {Extent::Kind::below, length, nullptr, 0};
  const std::uint64_t at = checked_add(place_of(entry), inside);
  if (place_of(entry) >= file_.size())
    damaged(fmt::format("block {} of the disk lies at {}, past the file's end", block, at),
            file_.name(), "take the image from a backup, or let the hypervisor check it");
  if (at >= file_.size()) return {Extent::Kind::zero, length, nullptr, 0};
  return {Extent::Kind::data, std::min(length, file_.size() - at), &file_, at};
}

void VdiContainer::set_entries(std::uint64_t first, const std::vector<std::uint32_t>& entries) {
  std::copy(entries.begin(), entries.end(), map_.begin() + static_cast<std::ptrdiff_t>(first));
  write_map(first, first + entries.size());
}

// In pieces: the largest disk's map takes 128 MiB, and once is enough.
void VdiContainer::write_map(std::uint64_t from, std::uint64_t to) {
  constexpr std::uint64_t most = 256U << 10;  // entries
  Buffer raw;
  while (from < to) {
    const std::uint64_t count = std::min(most, to - from);
    raw.resize(count * 4);
    for (std::uint64_t i = 0; i < count; ++i) put_at(raw, i * 4, Le32(map_[from + i]));
    file_.write(header_.map_offset.value() + from * 4, raw);
    from += count;
  }
}

void VdiContainer::put_blocks(std::uint64_t first, std::uint64_t count, std::uint64_t inside,
                              ConstByteSpan content) {
  const std::uint64_t data = header_.data_offset.value();
  // Behind the last block there is.
  const std::uint64_t end = std::max(file_.size(), data) - data;
  const std::uint64_t number =
      std::max<std::uint64_t>(header_.blocks_kept.value(), ceil_div(end, stride()));
  if (number + count > most_blocks)
    refuse("the image has no numbers left for further blocks", file_.name());
  file_.resize(data + (number + count) * stride());
  std::vector<std::uint32_t> entries;
  for (std::uint64_t i = 0; i < count; ++i) {
    entries.push_back(static_cast<std::uint32_t>(number + i));
    if (content.empty()) continue;
    const std::size_t step = std::min<std::size_t>(content.size(), block_size() - inside);
    write_into_zeros(file_, place_of(number + i) + inside, content.first(step));
    content = content.subspan(step);
    inside = 0;
  }
  set_entries(first, entries);
  header_.blocks_kept = static_cast<std::uint32_t>(number + count);
  write_header();
}

void VdiContainer::drop_blocks(std::uint64_t first, std::uint64_t count) {
  // Blocks keep their places: numbers without a gap are what this form promises. What they hold is
  // given back to the host.
  for (std::uint64_t i = first; i < first + count; ++i) {
    if (map_[i] == entry_absent && below_)
      set_entries(i, {entry_zero});
    else if (map_[i] < entry_zero && place_of(map_[i]) < file_.size())
      file_.discard(place_of(map_[i]), std::min(block_size(), file_.size() - place_of(map_[i])));
  }
}

void VdiContainer::forget_blocks(std::uint64_t first, std::uint64_t count) {
  for (std::uint64_t i = first; i < first + count; ++i)
    if (map_[i] < entry_zero || (map_[i] == entry_absent && below_))
      set_entries(i, {below_ ? entry_zero : entry_absent});
}

void VdiContainer::uncover_blocks(std::uint64_t first, std::uint64_t count) {
  set_entries(first, std::vector<std::uint32_t>(count, entry_absent));
}

void VdiContainer::check_growth(Bytes new_size) {
  const std::uint64_t most = most_entries * block_size();
  if (new_size.value() > std::min<std::uint64_t>(most, INT64_MAX) ||
      ceil_div(new_size.value(), block_size()) > most_entries)
    refuse(fmt::format("with blocks of {}, a VDI disk reaches {} at most",
                       human(Bytes(block_size())), human(Bytes(most))),
           file_.name(), "recast it into another form");
}

void VdiContainer::make_ready() {
  header_.modified = random_guid();
  write_header();
}

// The map needs the room of the first data blocks: those move behind the last one, and all others
// get smaller numbers, since the data begins further back.
void VdiContainer::clear_way(std::uint64_t map_end) {
  const std::uint64_t data = header_.data_offset.value();
  if (map_end <= data) return;
  // Room for as much again, so that the next growth need not move anything.
  const std::uint64_t shift = ceil_div(map_end - data, stride());
  const std::uint64_t end = std::max(file_.size(), data) - data;
  std::uint64_t kept =
      std::max<std::uint64_t>(header_.blocks_kept.value(), ceil_div(end, stride()));
  std::uint64_t next = std::max(kept, shift);
  for (std::uint32_t& entry : map_) {
    if (entry >= entry_zero) continue;
    if (entry < shift) {
      const std::uint64_t from = place_of(entry);
      if (from >= file_.size()) damaged("a block lies past the file's end", file_.name());
      Buffer content(block_size());
      file_.read(from, ByteSpan(content).first(std::min(block_size(), file_.size() - from)));
      if (file_.size() < data + (next + 1) * stride()) file_.resize(data + (next + 1) * stride());
      file_.write_unreferenced(place_of(next), content);
      entry = static_cast<std::uint32_t>(next++);
    }
    entry -= static_cast<std::uint32_t>(shift);
  }
  header_.data_offset = checked_cast<std::uint32_t>(data + shift * stride());
  header_.blocks_kept = checked_cast<std::uint32_t>(next - shift);
}

void VdiContainer::grow(Bytes new_size) {
  const std::uint64_t blocks = ceil_div(new_size.value(), block_size());
  const std::uint64_t map_at = header_.map_offset.value();
  clear_way(round_up(map_at + blocks * 4, 512));
  map_.resize(blocks, entry_absent);
  header_.disk_size = new_size.value();
  header_.blocks = static_cast<std::uint32_t>(blocks);
  if (type() == Type::fixed) place_all();
  if (file_.size() < header_.data_offset.value()) file_.resize(header_.data_offset.value());
  write_header();
  write_map(0, map_.size());
}

void VdiContainer::check_shrink(Bytes new_size) {
  if (type() == Type::differencing) Container::check_shrink(new_size);
}

// Blocks are numbered without a gap: those with the highest numbers take the places that became
// free.
std::uint64_t VdiContainer::relocate_tail(std::uint64_t most) {
  std::vector<MovableBlock> movable;  // by number, not by place
  for (std::size_t i = 0; i < map_.size(); ++i)
    if (map_[i] < entry_zero) movable.push_back({map_[i], i, 0});
  const auto moves =
      plan_tail_relocation(movable, {}, 0, 1, 1, std::max<std::uint64_t>(most / block_size(), 1));
  std::vector<MovableBlock> places = moves;
  for (MovableBlock& move : places) move = {place_of(move.at), move.owner, place_of(move.to)};
  copy_within(file_, places, block_size());
  for (const MovableBlock& move : moves)
    set_entries(move.owner, {static_cast<std::uint32_t>(move.to)});
  std::uint64_t end = 0;
  for (const std::uint32_t entry : map_)
    if (entry < entry_zero) end = std::max<std::uint64_t>(end, entry + 1ULL);
  header_.blocks_kept = static_cast<std::uint32_t>(end);
  write_header();
  file_.resize(std::min(file_.size(), header_.data_offset.value() + end * stride()));
  return moves.size() * block_size();
}

void VdiContainer::shrink(Bytes new_size) {
  clear_tail(new_size.value());
  map_.resize(ceil_div(new_size.value(), block_size()));
  header_.disk_size = new_size.value();
  header_.blocks = static_cast<std::uint32_t>(map_.size());
  write_header();
  write_map(0, map_.size());
  relocate_tail(UINT64_MAX);
}

// Every block has its place; holes of the host's file will do.
void VdiContainer::place_all() {
  std::uint64_t next = header_.blocks_kept.value();
  for (std::uint32_t& entry : map_)
    if (entry >= entry_zero) entry = static_cast<std::uint32_t>(next++);
  header_.blocks_kept = static_cast<std::uint32_t>(next);
  file_.resize(std::max(file_.size(), header_.data_offset.value() + next * stride()));
}

void VdiContainer::set_allocation(Allocation allocation) {
  if (allocation == Allocation::compressed || type() == Type::differencing)
    return Container::set_allocation(allocation);
  header_.type =
      static_cast<std::uint32_t>(allocation == Allocation::full ? Type::fixed : Type::sparse);
  if (allocation == Allocation::full) place_all();
  write_header();
  write_map(0, map_.size());
}

ContainerFacts VdiContainer::facts() {
  ContainerFacts facts;
  facts.format = ImageFormat::vdi;
  facts.variant = type() == Type::differencing ? "differencing" : "";
  facts.allocation = type() == Type::fixed ? Allocation::full : Allocation::sparse;
  facts.disk_size = Bytes(disk_size());
  facts.file_length = Bytes(file_.size());
  facts.block_size = Bytes(block_size());
  facts.blocks = map_.size();
  facts.limit = human(Bytes(std::min<std::uint64_t>(most_entries * block_size(), INT64_MAX)));
  facts.identity = guid_text(header_.id);
  if (below_) describe_parents(facts, below_.get(), below_->disk().name(), file_.name());
  return facts;
}

void VdiContainer::audit(Findings& findings) {
  const std::string where = file_.name() + ", VDI";
  std::vector<std::pair<std::uint32_t, std::uint32_t>> taken;  // number in the file, block
  for (std::size_t i = 0; i < map_.size(); ++i) {
    const std::uint32_t entry = map_[i];
    if (entry >= entry_zero) {
      if (type() == Type::fixed)
        findings.add(where, fmt::format("block {} of a fixed disk has no place", i));
      continue;
    }
    if (place_of(entry) >= file_.size())
      findings.add(where, fmt::format("block {} lies past the file's end", i));
    taken.emplace_back(entry, static_cast<std::uint32_t>(i));
    if (entry >= header_.blocks_kept.value())
      findings.add(where, fmt::format("block {} has number {}, but only {} are counted", i, entry,
                                      header_.blocks_kept.value()));
  }
  std::sort(taken.begin(), taken.end());
  for (std::size_t i = 1; i < taken.size(); ++i)
    if (taken[i].first == taken[i - 1].first)
      findings.add(where, fmt::format("blocks {} and {} lie in the same place", taken[i - 1].second,
                                      taken[i].second));
  if (below_) {
    if (auto* parent = dynamic_cast<VdiContainer*>(below_.get());
        parent != nullptr && parent->header_.modified != header_.parent_modified)
      findings.add(where, "the parent was changed after this image began to build on it");
  }
}

void create(Store& file, std::uint64_t disk_size, bool full, const Uuid& id) {
  constexpr std::uint64_t block = 1U << 20;
  constexpr std::uint64_t map_at = 512;
  const std::uint64_t blocks = ceil_div(disk_size, block);
  if (blocks > most_entries)
    refuse(fmt::format("a VDI disk cannot have {}", human(Bytes(disk_size))), file.name());
  Header header{};
  constexpr std::string_view text = "<<< VDI disk image, made by juneheath >>>\n";
  std::copy(text.begin(), text.end(), header.text.begin());
  header.signature = signature;
  header.version = version_1_1;
  header.header_size = 400;
  header.type = static_cast<std::uint32_t>(full ? Type::fixed : Type::sparse);
  header.map_offset = map_at;
  // Data begins at a whole block, for the host's sake.
  header.data_offset = checked_cast<std::uint32_t>(round_up(map_at + blocks * 4, block));
  header.old_geometry.sector_size = 512;
  header.geometry.sector_size = 512;
  header.disk_size = disk_size;
  header.block_size = block;
  header.blocks = static_cast<std::uint32_t>(blocks);
  header.blocks_kept = full ? static_cast<std::uint32_t>(blocks) : 0;
  header.id = id;
  header.modified = id;
  file.resize(header.data_offset.value() + (full ? blocks * block : 0));
  file.write(0, bytes_of(header));
  Buffer map(blocks * 4, 0xff);
  if (full)
    for (std::uint64_t i = 0; i < blocks; ++i)
      put_at(map, i * 4, Le32(static_cast<std::uint32_t>(i)));
  file.write(map_at, map);
}

}  // namespace jh::vdi

#include "core/fs/btrfs/blocks.h"

#include <fmt/format.h>

#include <bit>
#include <cstring>

namespace jh::btrfs {

Key key_of(const DiskKey& key) { return {key.object.value(), key.type, key.offset.value()}; }

DiskKey disk_key(const Key& key) {
  DiskKey made{};
  made.object = key.object;
  made.type = key.type;
  made.offset = key.offset;
  return made;
}

void corrupt(const std::string& what) {
  damaged(what, "btrfs", "let the guest check the filesystem first");
}

void Blocks::read_super() {
  chunks_.clear();
  known_.clear();
  super_ = read_as<Superblock>(place_, superblock_places[0]);
  check_super();
  check_features();
  read_system_chunks();
}

void Blocks::check_super() const {
  if (checksum_size(checksums()) == 0)
    unsupported(fmt::format("its checksums are of an unknown kind ({})", checksums()), "btrfs",
                "grow it inside the guest");
  const Buffer bytes = read_buffer(place_, superblock_places[0], sizeof(Superblock));
  if (block_checksum(checksums(), bytes) != super_.checksum)
    corrupt("the superblock's checksum is wrong");
  const auto is_size = [](std::uint64_t size) {
    return std::has_single_bit(size) && size >= 4096 && size <= 65536;
  };
  if (!is_size(sector_size())) corrupt("the superblock has an impossible sector size");
  if (!is_size(node_size()) || node_size() < sector_size())
    corrupt("the superblock has an impossible size of tree blocks");
  if (super_.address.value() != superblock_places[0])
    corrupt("the superblock says that it lies elsewhere");
  if (super_.system_chunks_size.value() > super_.system_chunks.size())
    corrupt("the superblock has too many system chunks");
  if (size() < first_usable || size() % sector_size() != 0 || size() > place_.size())
    corrupt("the filesystem is longer than its place");
}

void Blocks::check_features() const {
  const auto refuse_feature = [](const std::string& what) {
    unsupported(what, "btrfs", "change it inside the guest");
  };
  const std::uint64_t flags = super_.flags.value();
  if (super_.devices.value() != 1)
    refuse_feature(fmt::format("it lies on {} devices", super_.devices.value()));
  if ((flags & super_flag::seeding) != 0) refuse_feature("it is a seed for other devices");
  if ((flags & super_flag::dump) != 0) refuse_feature("it is a dump of metadata only");
  if ((flags & super_flag::changing_identity) != 0)
    refuse_feature("a change of its identity was not finished");
  if (is(incompatible::zoned)) refuse_feature("it lies on a zoned device");
  if (const std::uint64_t unknown = super_.incompatible.value() & ~incompatible::known)
    refuse_feature(fmt::format("it has features that are not known ({:#x})", unknown));
  if (const std::uint64_t unknown = super_.read_only_compatible.value() & ~ro_compatible::known)
    refuse_feature(fmt::format("it has features that are not known ({:#x})", unknown));
}

void Blocks::add_chunk(std::uint64_t logical, ConstByteSpan item) {
  if (item.size() < sizeof(ChunkItem)) corrupt("a chunk's item is too short");
  const auto head = parse_as<ChunkItem>(item, 0);
  Chunk chunk{head.length.value(), head.type.value(), {}};
  const std::size_t stripes = head.stripes.value();
  const std::uint64_t profile = chunk.type & chunk_type::profiles;
  if (profile != 0 && profile != chunk_type::duplicated)
    unsupported("its chunks are spread over devices", "btrfs", "change it inside the guest");
  if (stripes != (profile == 0 ? 1U : 2U) ||
      item.size() != sizeof(ChunkItem) + stripes * sizeof(Stripe))
    corrupt("a chunk has another number of copies than its profile");
  constexpr std::uint64_t stripe_length = 64 << 10;
  if (head.stripe_length.value() != stripe_length || head.sector_size.value() != sector_size())
    corrupt(fmt::format("the chunk at {} has impossible units", logical));
  if (chunk.length == 0 || chunk.length % sector_size() != 0 || logical % sector_size() != 0 ||
      logical + chunk.length < logical)
    corrupt("a chunk has an impossible length");
  for (std::size_t i = 0; i < stripes; ++i) {
    const auto stripe = parse_as<Stripe>(item, sizeof(ChunkItem) + i * sizeof(Stripe));
    const std::uint64_t at = stripe.offset.value();
    if (stripe.device.value() != super_.device.id.value() || stripe.uuid != super_.device.uuid ||
        at % sector_size() != 0 || at > size() || chunk.length > size() - at)
      corrupt(fmt::format("the chunk at {} lies outside of the device", logical));
    chunk.copies.push_back(at);
  }
  const auto next = chunks_.lower_bound(logical);
  const bool overlaps =
      (next != chunks_.end() && next->first < logical + chunk.length && next->first != logical) ||
      (next != chunks_.begin() &&
       std::prev(next)->first + std::prev(next)->second.length > logical);
  if (overlaps) corrupt("two chunks have the same addresses");
  chunks_[logical] = std::move(chunk);
}

// Those that the tree of chunks itself lies in stand in the superblock.
void Blocks::read_system_chunks() {
  const ConstByteSpan all =
      ConstByteSpan(super_.system_chunks).first(super_.system_chunks_size.value());
  for (std::size_t at = 0; at < all.size();) {
    if (all.size() - at < sizeof(DiskKey) + sizeof(ChunkItem))
      corrupt("the superblock's system chunks are cut off");
    const Key key = key_of(parse_as<DiskKey>(all, at));
    const auto head = parse_as<ChunkItem>(all, at + sizeof(DiskKey));
    const std::size_t length =
        sizeof(ChunkItem) + std::size_t{head.stripes.value()} * sizeof(Stripe);
    at += sizeof(DiskKey);
    if (key.type != item::chunk || length > all.size() - at)
      corrupt("the superblock's system chunks are cut off");
    add_chunk(key.offset, all.subspan(at, length));
    at += length;
  }
}

void Blocks::set_chunks(const std::vector<std::pair<std::uint64_t, Buffer>>& items) {
  // What the superblock has must be among them.
  const std::map<std::uint64_t, Chunk> from_super = std::move(chunks_);
  chunks_.clear();
  for (const auto& [logical, data] : items) add_chunk(logical, data);
  for (const auto& [logical, chunk] : from_super) {
    const auto found = chunks_.find(logical);
    if (found == chunks_.end() || found->second.copies != chunk.copies ||
        found->second.length != chunk.length)
      corrupt("the superblock and the tree of chunks do not agree");
  }
}

std::pair<std::uint64_t, const Chunk*> Blocks::chunk_of(std::uint64_t logical,
                                                        std::uint64_t length) const {
  auto found = chunks_.upper_bound(logical);
  if (found != chunks_.begin()) {
    --found;
    const std::uint64_t inside = logical - found->first;
    if (inside < found->second.length && length <= found->second.length - inside)
      return {found->first, &found->second};
  }
  corrupt(fmt::format("the address {} lies in no chunk", logical));
}

std::uint64_t Blocks::at(std::uint64_t logical, std::uint64_t length, std::size_t copy) const {
  const auto [start, chunk] = chunk_of(logical, length);
  return chunk->copies.at(copy) + (logical - start);
}

std::vector<std::uint64_t> Blocks::places(std::uint64_t logical, std::uint64_t length) const {
  const auto [start, chunk] = chunk_of(logical, length);
  std::vector<std::uint64_t> all = chunk->copies;
  for (std::uint64_t& at : all) at += logical - start;
  return all;
}

std::string Blocks::fault(ConstByteSpan bytes, std::uint64_t logical, std::uint64_t generation,
                          unsigned level) const {
  const auto header = parse_as<BlockHeader>(bytes, 0);
  if (block_checksum(checksums(), bytes) != header.checksum) return "its checksum is wrong";
  if (header.filesystem != block_identity()) return "it is of another filesystem";
  if (header.address.value() != logical) return "it says that it lies elsewhere";
  if (header.generation.value() != generation) return "it is of another time than its parent says";
  if (header.level != level) return "it is on another level than its parent says";
  const std::size_t entry = level == 0 ? sizeof(LeafItem) : sizeof(NodeEntry);
  if (header.items.value() > (bytes.size() - sizeof(BlockHeader)) / entry)
    return "it has more items than room";
  return {};
}

std::shared_ptr<const Buffer> Blocks::block(std::uint64_t logical, std::uint64_t generation,
                                            unsigned level) const {
  constexpr std::uint64_t most_kept = 8U << 20;  // bytes
  if (level >= most_levels) corrupt("a tree is too high");
  if (logical % sector_size() != 0) corrupt("a tree block has an impossible address");
  if (const auto kept = known_.find(logical); kept != known_.end()) {
    const auto header = parse_as<BlockHeader>(*kept->second, 0);
    if (header.generation.value() == generation && header.level == level) return kept->second;
  }
  std::string what;
  for (const std::uint64_t at : places(logical, node_size())) {
    Buffer bytes = read_buffer(place_, at, node_size());
    std::string trouble = fault(bytes, logical, generation, level);
    if (trouble.empty()) {
      if (known_.size() * node_size() >= most_kept) known_.clear();
      return known_[logical] = std::make_shared<const Buffer>(std::move(bytes));
    }
    if (what.empty()) what = std::move(trouble);
  }
  corrupt(fmt::format("the tree block at {}: {}", logical, what));
}

void Blocks::write_block(std::uint64_t logical, Buffer bytes, bool fresh) {
  known_.erase(logical);
  put_at(bytes, 0, block_checksum(checksums(), bytes));
  for (const std::uint64_t at : places(logical, bytes.size())) {
    if (fresh)
      place_.write_unreferenced(at, bytes);
    else
      place_.write(at, bytes);
  }
}

Root Blocks::root_tree() const {
  return {super_.root.value(), super_.generation.value(), super_.root_level};
}

Root Blocks::chunk_tree() const {
  return {super_.chunk_root.value(), super_.chunk_generation.value(), super_.chunk_level};
}

void Blocks::move_copy(std::uint64_t chunk, std::size_t copy, std::uint64_t to) {
  chunks_.at(chunk).copies.at(copy) = to;
}

void Blocks::write_super(const Superblock& super) {
  super_ = super;
  // The first one last: it is the one that is looked at.
  for (std::size_t i = superblock_places.size(); i-- > 0;) {
    const std::uint64_t at = superblock_places[i];
    if (at + sizeof(Superblock) > size()) continue;
    Superblock copy = super;
    copy.address = at;
    Buffer bytes(sizeof(copy));
    put_at(bytes, 0, copy);
    put_at(bytes, 0, block_checksum(checksums(), bytes));
    place_.write(at, bytes);
  }
  super_ = read_as<Superblock>(place_, superblock_places[0]);
}

}  // namespace jh::btrfs

#include "core/fs/xfs/index.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "core/fs/xfs/content_format.h"

namespace jh::xfs {

std::uint32_t hash_of(ConstByteSpan name) {
  std::uint32_t hash = 0;
  for (const std::uint8_t byte : name) hash = std::rotl(hash, 7) ^ byte;
  return hash;
}

std::uint64_t ForkBlocks::blocks() const {
  std::uint64_t sum = 0;
  for (const FileExtent& extent : extents_) sum += extent.count;
  return sum;
}

std::optional<std::uint64_t> ForkBlocks::where(std::uint64_t number) const {
  const auto next =
      std::upper_bound(extents_.begin(), extents_.end(), number,
                       [](std::uint64_t at, const FileExtent& each) { return at < each.offset; });
  if (next == extents_.begin()) return std::nullopt;
  const FileExtent& extent = *std::prev(next);
  if (number - extent.offset >= extent.count) return std::nullopt;
  return geometry_.block_at(extent.block + (number - extent.offset));
}

Buffer ForkBlocks::read(std::uint64_t number) const {
  const auto at = where(number);
  if (!at) fail("its index leads to a block that it does not have");
  Buffer bytes = file_.read(extents_, number * geometry_.block_size(), unit_);
  const auto header = parse_as<IndexHeader>(bytes, 0);
  if (header.owner.value() != file_.number() || header.uuid != geometry_.metadata_uuid() ||
      header.address.value() * basic_block != *at ||
      !checksum_matches(bytes, offsetof(IndexHeader, checksum)))
    fail("a block of its index is damaged");
  written(header.log_sequence.value());
  return bytes;
}

void ForkBlocks::fail(const std::string& what) const {
  corrupt(fmt::format("inode {}: {}", file_.number(), what));
}

std::uint32_t IndexWalk::visit(std::uint64_t number, std::optional<unsigned> level) {
  if (budget_ == 0 || !seen_.insert(number).second) fork_.fail("its index leads in a circle");
  --budget_;
  const Buffer bytes = fork_.read(number);
  const auto header = parse_as<IndexHeader>(bytes, 0);
  const std::uint16_t magic = header.magic.value();
  if (magic != block_magic::node) {
    if (level.value_or(0) != 0) fork_.fail("a leaf of its index stands where a node belongs");
    // Leaves know their neighbours.
    if (header.backward.value() != last_ || (last_ != 0 && expected_ != number))
      fork_.fail("the leaves of its index are not in a row");
    last_ = static_cast<std::uint32_t>(number);
    expected_ = header.forward.value();
    return leaf_(number, bytes, magic);
  }
  const auto counts = parse_as<NodeCounts>(bytes, sizeof(IndexHeader));
  const std::size_t begin = sizeof(IndexHeader) + sizeof(NodeCounts);
  const unsigned own = counts.level.value();
  if (own == 0 || own > 5 || (level && *level != own) || counts.count.value() == 0 ||
      counts.count.value() > (bytes.size() - begin) / sizeof(NodeEntry))
    fork_.fail("a node of its index is impossible");
  std::uint32_t largest = 0;
  for (std::size_t i = 0; i < counts.count.value(); ++i) {
    const auto entry = parse_as<NodeEntry>(bytes, begin + i * sizeof(NodeEntry));
    if (entry.hash.value() < largest) fork_.fail("a node of its index is not in order");
    largest = entry.hash.value();
    if (visit(entry.block.value(), own - 1) != largest)
      fork_.fail("a node of its index has another hash than the leaf below");
  }
  return largest;
}

void IndexWalk::end() const {
  if (expected_ != 0) fork_.fail("the leaves of its index are not in a row");
}

}  // namespace jh::xfs

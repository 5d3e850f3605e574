#include "core/fs/ext/audit_index.h"

#include "core/fs/ext/block_map.h"
#include "core/fs/ext/read.h"

namespace jh::ext {
namespace {

constexpr std::size_t root_info_at = 24;  // behind the entries "." and ".."
constexpr std::uint8_t first_unsigned_kind = 3;
constexpr std::uint64_t past_all_hashes = 1ULL << 32;

}  // namespace

IndexAudit::IndexAudit(AuditState& state, const InodeRecord& directory, std::string where,
                       std::uint32_t seed)
    : state_(state),
      fs_(state.fs),
      g_(state.fs.geometry()),
      directory_(directory),
      where_(std::move(where)),
      seed_(seed),
      blocks_(directory.size() / state.fs.geometry().block_size) {
  if (!read_root()) return;
  walk(0, {0, past_all_hashes, false, true}, levels_);
  if (whole_) find_unreferenced();
}

bool IndexAudit::is_node(std::uint64_t logical) const {
  const auto found = ranges_.find(logical);
  return found != ranges_.end() && found->second.node;
}

bool IndexAudit::read_root() {
  ranges_[0] = {0, past_all_hashes, false, true};
  const std::uint64_t physical = find_block(fs_, directory_, 0);
  if (physical == 0) {
    state_.find(where_, "its first block is missing");
    return whole_ = false;
  }
  const Buffer raw = fs_.read_block(physical);
  const auto info = parse_as<IndexRootInfo>(raw, root_info_at);
  const std::uint32_t deepest = g_.has_incompat(incompat::largedir) ? 3 : 2;
  const bool keyed = info.hash_version == static_cast<std::uint8_t>(HashKind::keyed);
  if (info.info_length != sizeof(IndexRootInfo) || info.reserved_zero.value() != 0 ||
      (info.hash_version >= 2 * first_unsigned_kind && !keyed) || info.indirect_levels >= deepest ||
      info.unused_flags != 0) {
    state_.find(where_, "the root of its index is damaged");
    return whole_ = false;
  }
  levels_ = info.indirect_levels;
  hash_.kind = keyed ? HashKind::keyed : HashKind(info.hash_version % first_unsigned_kind);
  hash_.signed_chars = info.hash_version < first_unsigned_kind &&
                       (fs_.super().flags.value() & super_flag_unsigned_hash) == 0;
  for (std::size_t i = 0; i < hash_.seed.size(); ++i)
    hash_.seed[i] = fs_.super().hash_seed[i].value();
  if (keyed || (directory_.has_flag(flag_casefold) && directory_.has_flag(flag_encrypt)))
    names_ = Names::unchecked;  // needs the directory's key
  else if (directory_.has_flag(flag_casefold))
    names_ = Names::folded;
  return true;
}

void IndexAudit::walk(std::uint64_t logical, const Range& range, std::uint32_t levels_below) {
  const std::uint64_t physical = find_block(fs_, directory_, logical);
  if (physical == 0) {
    whole_ = false;
    state_.find(where_, "block {} of its index is missing", logical);
    return;
  }
  const Buffer raw = fs_.read_block(physical);
  std::size_t at = root_info_at + sizeof(IndexRootInfo);
  if (logical != 0) {
    at = sizeof(DirEntry);
    const auto fake = parse_as<DirEntry>(raw, 0);
    if (fake.inode.value() != 0 ||
        entry_length(fake.rec_len.value(), g_.block_size) != g_.block_size) {
      whole_ = false;
      state_.find(where_, "block {} should be a node of its index and is not", logical);
      return;
    }
  }
  const auto counts = parse_as<IndexCountLimit>(raw, at);
  const std::size_t tail_room = g_.metadata_csum() ? sizeof(IndexTail) : 0;
  const std::size_t limit = (raw.size() - at - tail_room) / sizeof(IndexCountLimit);
  const std::uint32_t count = counts.count.value();
  if (counts.limit.value() != limit || count == 0 || count > limit) {
    whole_ = false;
    state_.find(where_, "the counts of index block {} are wrong", logical);
    return;
  }
  if (g_.metadata_csum()) check_sum(raw, at, limit, count, logical);
  if (!entries_in_order(raw, at, count, logical)) {
    whole_ = false;
    return;
  }
  for (std::uint32_t i = 0; i < count; ++i) {
    const std::size_t entry = at + i * sizeof(IndexCountLimit);
    const std::uint64_t child = parse_as<Le32>(raw, entry + 4).value() & 0x0FFFFFFF;
    Range part = range;
    part.node = levels_below > 0;
    // The first entry has no hash of its own; the lowest bit of the others tells of a chain.
    if (i != 0) part.low = parse_as<Le32>(raw, entry).value() & ~1U;
    if (i + 1 < count) {
      const std::uint32_t next = parse_as<Le32>(raw, entry + sizeof(IndexCountLimit)).value();
      part.high = next & ~1U;
      part.high_too = (next & 1) != 0;
    }
    if (part.low < range.low || part.high > range.high) {
      whole_ = false;
      state_.find(where_, "entry {} in index block {} lies outside of what leads to it", i,
                  logical);
      continue;
    }
    if (!ranges_.emplace(child, part).second) {
      whole_ = false;
      state_.find(where_, "two entries of its index lead to block {}", child);
      continue;
    }
    if (levels_below > 0) walk(child, part, levels_below - 1);
  }
}

bool IndexAudit::entries_in_order(const Buffer& raw, std::size_t at, std::uint32_t count,
                                  std::uint64_t logical) {
  std::uint32_t last_hash = 0;
  for (std::uint32_t i = 0; i < count; ++i) {
    const auto hash = parse_as<Le32>(raw, at + i * sizeof(IndexCountLimit)).value();
    const auto child =
        parse_as<Le32>(raw, at + i * sizeof(IndexCountLimit) + 4).value() & 0x0FFFFFFF;
    if (child == 0 || child >= blocks_ || (i > 1 && hash < last_hash)) {
      state_.find(where_, "entry {} in index block {} is wrong", i, logical);
      return false;
    }
    if (i != 0) last_hash = hash;
  }
  return true;
}

void IndexAudit::check_sum(const Buffer& raw, std::size_t at, std::size_t limit,
                           std::uint32_t count, std::uint64_t logical) {
  const std::size_t tail_at = at + limit * sizeof(IndexCountLimit);
  const auto tail = parse_as<IndexTail>(raw, tail_at);
  const std::uint32_t sum =
      Checksums::index_block(seed_, raw, at + count * sizeof(IndexCountLimit), tail_at);
  if (sum != tail.checksum.value())
    state_.find(where_, "the checksum of index block {} is wrong", logical);
}

void IndexAudit::find_unreferenced() {
  BlockVisitor visitor;
  visitor.defect = [](const std::string&) {};  // reported with the inode
  visitor.data = [&](const MappedExtent& run) {
    for (std::uint64_t block = run.logical; block < run.logical + run.count; ++block)
      if (!ranges_.contains(block))
        state_.find(where_, "no entry of its index leads to block {}", block);
    return true;
  };
  visit_blocks(fs_, directory_, visitor);
}

bool IndexAudit::is_sought_in(std::uint64_t logical, const std::string& name) const {
  if (!whole_ || names_ == Names::unchecked) return true;
  const auto found = ranges_.find(logical);
  if (found == ranges_.end() || found->second.node) return true;
  std::string hashed = name;
  if (names_ == Names::folded) {
    // What folding does to other characters is the business of the filesystem's character tables.
    for (char& c : hashed) {
      if (static_cast<unsigned char>(c) >= 0x80) return true;
      if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
    }
  }
  const Range& range = found->second;
  const std::uint32_t hash = hash_.of(hashed);
  return hash >= range.low && hash <= range.high && (hash != range.high || range.high_too);
}

}  // namespace jh::ext

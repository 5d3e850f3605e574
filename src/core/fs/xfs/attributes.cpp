#include "core/fs/xfs/attributes.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/container_hash/hash.hpp>

#include "core/fs/xfs/content_format.h"

namespace jh::xfs {
namespace {

constexpr std::size_t entries_begin = sizeof(IndexHeader) + sizeof(AttributeCounts);

const Observer nobody_listens{[](const std::string&) {}, [](std::uint64_t) {}};

[[noreturn]] void cut_off() { corrupt("attributes are cut off"); }

struct Kept {
  std::uint32_t hash = 0;
  std::uint8_t flags = 0;
  Buffer whole;
  std::size_t bytes() const { return sizeof(AttributeEntry) + whole.size(); }
};

// All attributes of a file in the order of their hashes, in the leaves that it has.
class Leaves {
 public:
  Leaves(const Geometry& geometry, const InodeFile& file)
      : geometry_(geometry),
        file_(file),
        fork_(geometry, file, true, geometry.block_size(), nobody_listens) {}

  // False: nothing has another number.
  bool read(const Renumbering& renumbered) {
    bool changed = false;
    for_each_attribute_in_leaves(
        geometry_, file_, [&](std::uint64_t number, ConstByteSpan) { numbers_.push_back(number); },
        [&](const Attribute& each, ConstByteSpan leaf) {
          Kept kept{each.hash, each.flags, Buffer(each.whole.begin(), each.whole.end())};
          if (each.is_parent() && each.value != 0) {
            const std::size_t at =
                each.value - static_cast<std::size_t>(each.whole.data() - leaf.data());
            auto parent = parse_as<ParentPointer>(kept.whole, at);
            const std::uint64_t now = renumbered.of(parent.folder.value());
            changed = changed || now != parent.folder.value();
            parent.folder = now;
            put_at(kept.whole, at, parent);
            kept.hash = hash_of_parent(each.name, now);
          }
          kept_.push_back(std::move(kept));
        });
    std::stable_sort(kept_.begin(), kept_.end(),
                     [](const Kept& a, const Kept& b) { return a.hash < b.hash; });
    return changed;
  }

  std::map<std::uint64_t, Buffer> write() {
    // Evenly, so that the next one finds room wherever it goes; or as full as they become.
    const auto ends = shared_out(/*evenly=*/true);
    const auto full = ends.empty() ? shared_out(/*evenly=*/false) : ends;
    if (full.empty())
      refuse(fmt::format("the attributes of inode {} do not fit into their {} blocks with other "
                         "numbers of folders",
                         file_.number(), numbers_.size()),
             "XFS", "ask for another size, or remove an attribute or a name of that file");
    std::map<std::uint64_t, Buffer> out;
    std::size_t first = 0;
    for (std::size_t i = 0; i < numbers_.size(); ++i) {
      out[numbers_[i]] = leaf(numbers_[i], first, full[i]);
      largest_[numbers_[i]] = kept_[full[i] - 1].hash;
      first = full[i];
    }
    nodes(0, out);
    return out;
  }

 private:
  // Where each leaf ends among all attributes; none of them is empty. Nothing: they do not fit.
  std::vector<std::size_t> shared_out(bool evenly) const {
    const std::size_t room = fork_.unit() - entries_begin;
    std::size_t left = 0;
    for (const Kept& each : kept_) left += each.bytes();
    std::vector<std::size_t> ends;
    std::size_t at = 0;
    for (std::size_t leaves = numbers_.size(); leaves > 0; --leaves) {
      const std::size_t share = evenly ? std::min(room, (left + leaves - 1) / leaves) : room;
      std::size_t used = 0;
      while (kept_.size() - at >= leaves && used + kept_[at].bytes() <= room &&
             (used < share || leaves == 1)) {
        used += kept_[at++].bytes();
      }
      if (used == 0) return {};
      left -= used;
      ends.push_back(at);
    }
    return at == kept_.size() ? ends : std::vector<std::size_t>{};
  }

  Buffer leaf(std::uint64_t number, std::size_t from, std::size_t to) const {
    Buffer bytes = fork_.read(number);
    std::fill(bytes.begin() + sizeof(IndexHeader), bytes.end(), std::uint8_t{0});
    const std::size_t entries_end = entries_begin + (to - from) * sizeof(AttributeEntry);
    std::size_t end = bytes.size();
    for (std::size_t i = from; i < to; ++i) {
      end -= kept_[i].whole.size();
      std::copy(kept_[i].whole.begin(), kept_[i].whole.end(),
                bytes.begin() + static_cast<std::ptrdiff_t>(end));
      AttributeEntry entry{};
      entry.hash = kept_[i].hash;
      entry.name = checked_cast<std::uint16_t>(end);
      entry.flags = kept_[i].flags;
      put_at(bytes, entries_begin + (i - from) * sizeof(AttributeEntry), entry);
    }
    AttributeCounts counts{};
    counts.count = checked_cast<std::uint16_t>(to - from);
    counts.used = checked_cast<std::uint16_t>(bytes.size() - end);
    counts.first_used = checked_cast<std::uint16_t>(end);
    counts.free[0] = {Be16(static_cast<std::uint16_t>(entries_end)),
                      Be16(static_cast<std::uint16_t>(end - entries_end))};
    put_at(bytes, sizeof(IndexHeader), counts);
    set_checksum(bytes, offsetof(IndexHeader, checksum));
    return bytes;
  }

  // Nodes have the largest hash of what is below. Gives back that of this block.
  std::uint32_t nodes(std::uint64_t number, std::map<std::uint64_t, Buffer>& out) const {
    if (const auto known = largest_.find(number); known != largest_.end()) return known->second;
    Buffer bytes = fork_.read(number);
    const std::size_t count = parse_as<NodeCounts>(bytes, sizeof(IndexHeader)).count.value();
    std::uint32_t largest = 0;
    for (std::size_t i = 0; i < count; ++i) {
      const std::size_t at = sizeof(IndexHeader) + sizeof(NodeCounts) + i * sizeof(NodeEntry);
      auto entry = parse_as<NodeEntry>(bytes, at);
      largest = nodes(entry.block.value(), out);
      entry.hash = largest;
      put_at(bytes, at, entry);
    }
    set_checksum(bytes, offsetof(IndexHeader, checksum));
    out[number] = std::move(bytes);
    return largest;
  }

  const Geometry& geometry_;
  const InodeFile& file_;
  const ForkBlocks fork_;
  std::vector<std::uint64_t> numbers_;  // of the leaves, in the order of hashes
  std::vector<Kept> kept_;
  std::map<std::uint64_t, std::uint32_t> largest_;  // hash in each leaf, afterwards
};

}  // namespace

void for_each_short_attribute(ConstByteSpan fork,
                              const std::function<void(const Attribute&)>& visit) {
  if (fork.size() < sizeof(ShortAttributes)) cut_off();
  const std::size_t count = parse_as<ShortAttributes>(fork, 0).count;
  std::size_t at = sizeof(ShortAttributes);
  for (std::size_t i = 0; i < count; ++i) {
    // Length of the name, length of the value, flags, and both.
    if (at + 3 > fork.size()) cut_off();
    const std::size_t name = fork[at];
    const std::size_t next = at + 3 + name + fork[at + 1];
    if (next > fork.size()) cut_off();
    visit({0, fork[at + 2], fork.subspan(at + 3, name), at + 3 + name, {}});
    at = next;
  }
}

void for_each_leaf_attribute(ConstByteSpan leaf,
                             const std::function<void(const Attribute&)>& visit) {
  const std::size_t count = parse_as<AttributeCounts>(leaf, sizeof(IndexHeader)).count.value();
  if (count > (leaf.size() - entries_begin) / sizeof(AttributeEntry)) cut_off();
  for (std::size_t i = 0; i < count; ++i) {
    const auto entry = parse_as<AttributeEntry>(leaf, entries_begin + i * sizeof(AttributeEntry));
    const std::size_t at = entry.name.value();
    const bool local = (entry.flags & attribute::local) != 0;
    const std::size_t fixed = local ? 3 : 9;
    if (at + fixed > leaf.size()) cut_off();
    const std::size_t name = leaf[at + fixed - 1];
    const std::size_t value = local ? parse_as<Be16>(leaf, at).value() : 0;
    // Two bytes more than it needs are kept of one with its value elsewhere.
    const std::size_t whole = (fixed + (local ? 0 : 2) + name + value + 3) / 4 * 4;
    if (at + whole > leaf.size()) cut_off();
    visit({entry.hash.value(), entry.flags, leaf.subspan(at + fixed, name),
           local ? at + fixed + name : 0, leaf.subspan(at, whole)});
  }
}

void for_each_attribute_in_leaves(
    const Geometry& geometry, const InodeFile& file,
    const std::function<void(std::uint64_t number, ConstByteSpan leaf)>& leaf,
    const std::function<void(const Attribute&, ConstByteSpan leaf)>& visit) {
  const ForkBlocks fork(geometry, file, true, geometry.block_size(), nobody_listens);
  if (fork.extents().empty()) return;
  IndexWalk walk(fork, [&](std::uint64_t number, ConstByteSpan bytes, std::uint16_t) {
    leaf(number, bytes);
    std::uint32_t largest = 0;
    for_each_leaf_attribute(bytes, [&](const Attribute& each) {
      largest = each.hash;
      visit(each, bytes);
    });
    return largest;
  });
  walk.visit(0);
  walk.end();
}

std::uint32_t hash_of_parent(ConstByteSpan name, std::uint64_t folder) {
  return hash_of(name) ^ static_cast<std::uint32_t>(folder >> 32) ^
         static_cast<std::uint32_t>(folder);
}

std::uint64_t sum_of_parent(const std::string& name, std::uint64_t folder,
                            std::uint32_t generation) {
  std::size_t sum = std::hash<std::string>()(name);
  boost::hash_combine(sum, folder);
  boost::hash_combine(sum, generation);
  return sum;
}

bool renumber_short_parents(const Renumbering& renumbered, ByteSpan fork) {
  bool changed = false;
  for_each_short_attribute(fork, [&](const Attribute& each) {
    if (!each.is_parent()) return;
    auto parent = parse_as<ParentPointer>(fork, each.value);
    const std::uint64_t now = renumbered.of(parent.folder.value());
    changed = changed || now != parent.folder.value();
    parent.folder = now;
    put_at(fork, each.value, parent);
  });
  return changed;
}

std::map<std::uint64_t, Buffer> renumber_parents(const Geometry& geometry, const InodeFile& file,
                                                 const Renumbering& renumbered) {
  Leaves leaves(geometry, file);
  return leaves.read(renumbered) ? leaves.write() : std::map<std::uint64_t, Buffer>();
}

}  // namespace jh::xfs

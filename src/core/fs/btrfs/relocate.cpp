#include "core/fs/btrfs/relocate.h"

#include <algorithm>
#include <unordered_set>

#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/free_space.h"
#include "core/fs/btrfs/references.h"

namespace jh::btrfs {
namespace {

// A tree block that a tree gets in addition.
struct FreshBlock {
  std::uint64_t at = 0;
  std::uint64_t tree = 0;
  std::uint8_t level = 0;
};

class Relocation {
 public:
  Relocation(Volume& volume, const Shrinking& plan, Progress& progress)
      : volume_(volume), plan_(plan), progress_(progress) {}

  void run() {
    progress_.begin("emptying chunks", plan_.to_move);
    const std::vector<ListedRoot> roots = all_roots(volume_);
    copy_content(roots);
    // Those whose items are sorted by address are written anew; in all others only addresses
    // change.
    std::vector<std::pair<std::uint64_t, TreeCopy>> sorted;
    for (const ListedRoot& listed : roots)
      if (is_sorted_by_address(listed.number))
        sorted.emplace_back(listed.number, TreeCopy(volume_, listed.root));
    // Sums may need more room than they had, and that has to be told to the others.
    for (auto& [number, copy] : sorted)
      if (number == object::sum_tree) {
        checksums(copy.items());
        find_room(number, copy);
      }
    for (auto& [number, copy] : sorted) change(number, copy.items());
    Superblock super = volume_.super();
    for (const ListedRoot& listed : roots)
      if (!is_sorted_by_address(listed.number))
        rewrite(listed.root.block, listed.root.generation, listed.root.level);
    for (auto& [number, copy] : sorted)
      copy.write(volume_, [this](std::uint64_t block) { return moved(block); });
    super.root = moved(super.root.value());
    move_backup_roots(super);
    super.device.used = super.device.used.value() - given_up();
    super.used = super.used.value() + fresh_.size() * volume_.node_size();
    volume_.write_super(super);
    progress_.end();
  }

 private:
  static bool is_sorted_by_address(std::uint64_t tree) {
    return tree == object::extent_tree || tree == object::chunk_tree ||
           tree == object::device_tree || tree == object::sum_tree ||
           tree == object::free_space_tree || tree == object::block_group_tree;
  }

  // Where an address is now. Inside of an extent too.
  std::uint64_t moved(std::uint64_t address) const {
    const auto next =
        std::upper_bound(plan_.extents.begin(), plan_.extents.end(), address,
                         [](std::uint64_t at, const ExtentMove& move) { return at < move.from; });
    if (next == plan_.extents.begin()) return address;
    const ExtentMove& move = *std::prev(next);
    return address - move.from < move.length ? move.to + (address - move.from) : address;
  }
  bool is_emptied(std::uint64_t chunk) const {
    return std::find(plan_.emptied.begin(), plan_.emptied.end(), chunk) != plan_.emptied.end();
  }

  // Not the tree blocks, which are written with their new addresses.
  void copy_content(const std::vector<ListedRoot>& roots) {
    std::unordered_set<std::uint64_t> blocks;
    for (const ListedRoot& listed : roots)
      walk_tree(volume_, listed.root,
                [&](const TreeBlock& block) { return blocks.insert(block.block).second; });
    for (const ExtentMove& move : plan_.extents) {
      if (blocks.contains(move.from)) continue;
      const auto [from, source] = volume_.chunk_of(move.from, move.length);
      const auto [to, target] = volume_.chunk_of(move.to, move.length);
      for (std::size_t copy = 0; copy < target->copies.size(); ++copy)
        copy_unreferenced(volume_.place(), source->copies.at(copy) + (move.from - from),
                          target->copies[copy] + (move.to - to), move.length, copied_, progress_);
    }
  }

  // Addresses in a block and in those below it; a block that is shared is met once.
  void rewrite(std::uint64_t at, std::uint64_t generation, unsigned level) {
    if (!rewritten_.insert(at).second) return;
    progress_.advance(copied_);
    const auto kept = volume_.block(at, generation, level);
    Buffer bytes = *kept;
    const std::size_t count = item_count(bytes);
    if (level == 0) {
      check_leaf(bytes);
      for (std::size_t i = 0; i < count; ++i)
        address_in(key_of(leaf_item(bytes, i).key), item_data(ByteSpan(bytes), i));
    } else {
      for (std::size_t i = 0; i < count; ++i) {
        NodeEntry entry = node_entry(bytes, i);
        rewrite(entry.block.value(), entry.generation.value(), level - 1);
        entry.block = moved(entry.block.value());
        put_at(bytes, sizeof(BlockHeader) + i * sizeof(NodeEntry), entry);
      }
    }
    put_at(bytes, offsetof(BlockHeader, address), Le64(moved(at)));
    if (bytes != *kept) volume_.write_block(moved(at), std::move(bytes), moved(at) != at);
  }

  void address_in(const Key& key, ByteSpan data) const {
    std::size_t at = 0;
    if (key.type == item::root && data.size() >= sizeof(RootItem)) {
      at = offsetof(RootItem, block);
      if (const auto found = new_roots_.find(key.object); found != new_roots_.end()) {
        auto root = parse_as<RootItem>(data, 0);
        root.block = found->second.block;
        root.generation = found->second.generation;
        root.level = static_cast<std::uint8_t>(found->second.level);
        put_at(data, 0, root);
        return;
      }
    } else if (key.type == item::file_extent &&
               data.size() >= sizeof(FileExtentHead) + sizeof(FileExtentPlace) &&
               parse_as<FileExtentHead>(data, 0).type != extent_type::in_line) {
      at = sizeof(FileExtentHead);
    } else {
      return;
    }
    put_at(data, at, Le64(moved(parse_as<Le64>(data, at).value())));
  }

  void change(std::uint64_t tree, std::vector<Item>& items) {
    switch (tree) {
      case object::chunk_tree:
        chunks(items);
        break;
      case object::device_tree:
        device(items);
        break;
      case object::sum_tree:
        break;
      case object::free_space_tree:
        free_space(items);
        break;
      default:
        extents(items);
    }
  }

  // Bytes of the device.
  std::uint64_t given_up() const {
    std::uint64_t sum = 0;
    for (const std::uint64_t logical : plan_.emptied) {
      const Chunk& chunk = volume_.chunks().at(logical);
      sum += chunk.length * chunk.copies.size();
    }
    return sum;
  }

  void chunks(std::vector<Item>& items) const {
    std::erase_if(items, [&](const Item& one) {
      return one.key.type == item::chunk && is_emptied(one.key.offset);
    });
    for (Item& one : items)
      if (one.key.type == item::device) {
        auto device = parse_as<DeviceItem>(one.data, 0);
        device.used = device.used.value() - given_up();
        put_at(one.data, 0, device);
      }
  }

  void device(std::vector<Item>& items) const {
    std::erase_if(items, [&](const Item& one) {
      return one.key.type == item::device_extent &&
             is_emptied(parse_as<DeviceExtent>(one.data, 0).chunk.value());
    });
  }

  // More leaves, until the items fit.
  void find_room(std::uint64_t tree, TreeCopy& copy) {
    while (!copy.fits() && copy.items().size() > copy.leaves()) {
      const std::uint64_t root = copy.is_single() ? take_block(tree, 1) : 0;
      const std::uint64_t leaf = take_block(tree, 0);
      if (!copy.add_leaf(leaf, root, volume_.super().generation.value()))
        refuse("one of its trees has no room left", "btrfs", "choose a larger size");
      if (root != 0) new_roots_[tree] = copy.root();
    }
  }

  // A tree block in what is free of the metadata that stays.
  std::uint64_t take_block(std::uint64_t tree, std::uint8_t level) {
    const std::uint64_t node = volume_.node_size();
    for (const auto& [logical, chunk] : volume_.chunks()) {
      if ((chunk.type & chunk_type::metadata) == 0 || is_emptied(logical)) continue;
      Ranges room = free_in(volume_, logical, chunk);
      for (const ExtentMove& move : plan_.extents)
        remove_range(room, move.to, move.to + move.length);
      for (const FreshBlock& block : fresh_) remove_range(room, block.at, block.at + node);
      leave_superblocks(room, logical, chunk);
      for (const auto& [from, to] : room) {
        const std::uint64_t at = round_up(from, node);
        if (at >= to || to - at < node) continue;
        fresh_.push_back({at, tree, level});
        return at;
      }
    }
    refuse("its metadata has no room left", "btrfs", "choose a larger size");
  }

  Item item_of(const FreshBlock& block) const {
    ExtentItem head{};
    head.references = 1;
    head.generation = volume_.super().generation.value();
    head.flags = extent_flag::tree_block;
    Item made;
    made.data.resize(sizeof(head));
    put_at(made.data, 0, head);
    if (volume_.is(incompatible::skinny_metadata)) {
      made.key = {block.at, item::metadata, block.level};
    } else {
      made.key = {block.at, item::extent, volume_.node_size()};
      made.data.resize(made.data.size() + sizeof(DiskKey));
      made.data.push_back(block.level);
    }
    made.data.push_back(item::tree_reference);
    const Le64 tree(block.tree);
    const ConstByteSpan bytes = bytes_of(tree);
    made.data.insert(made.data.end(), bytes.begin(), bytes.end());
    return made;
  }

  // Extents with their references, and the block groups, wherever these are kept.
  void extents(std::vector<Item>& items) const {
    std::erase_if(items, [&](const Item& one) {
      return one.key.type == item::block_group && is_emptied(one.key.object);
    });
    std::map<std::uint64_t, std::uint64_t> came;  // bytes, by chunk
    for (const ExtentMove& move : plan_.extents)
      came[volume_.chunk_of(move.to, move.length).first] += move.length;
    for (const FreshBlock& block : fresh_)
      came[volume_.chunk_of(block.at, 1).first] += volume_.node_size();
    bool has_extents = false;
    for (Item& one : items) {
      has_extents = has_extents || one.key.type != item::block_group;
      if (one.key.type == item::block_group) {
        auto group = parse_as<BlockGroupItem>(one.data, 0);
        if (const auto found = came.find(one.key.object); found != came.end())
          group.used = group.used.value() + found->second;
        put_at(one.data, 0, group);
        continue;
      }
      one.key.object = moved(one.key.object);
      if (one.key.type == item::shared_tree_reference ||
          one.key.type == item::shared_data_reference)
        one.key.offset = moved(one.key.offset);
      if (one.key.type == item::extent || one.key.type == item::metadata)
        inline_references(one.key.type, one.data);
    }
    // Block groups may have a tree of their own.
    for (const FreshBlock& block : fresh_)
      if (has_extents) items.push_back(item_of(block));
  }

  // Parents by address. Those are sorted too: the last one first.
  void inline_references(std::uint8_t type, Buffer& data) const {
    std::vector<std::pair<Reference, Buffer>> all;
    bool changed = false;
    for_each_inline_reference(
        type, data, [&](Reference reference, std::size_t at, std::size_t length) {
          Buffer bytes(data.begin() + static_cast<std::ptrdiff_t>(at),
                       data.begin() + static_cast<std::ptrdiff_t>(at + length));
          if (reference.type == item::shared_tree_reference ||
              reference.type == item::shared_data_reference) {
            const std::uint64_t parent = reference.holder;
            reference.holder = moved(parent);
            changed = changed || reference.holder != parent;
            put_at(bytes, 1, Le64(reference.holder));
          } else {
            reference.holder = 0;  // those keep their order
          }
          all.emplace_back(reference, std::move(bytes));
        });
    if (!changed) return;
    std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) {
      if (a.first.type != b.first.type) return a.first.type < b.first.type;
      return a.first.holder > b.first.holder;
    });
    data.resize(references_at(type, data));
    for (const auto& [reference, bytes] : all) data.insert(data.end(), bytes.begin(), bytes.end());
  }

  // Cut where what moved ends, put together where it lies side by side.
  void checksums(std::vector<Item>& items) const {
    const std::size_t width = checksum_size(volume_.checksums());
    const std::uint64_t sector = volume_.sector_size();
    struct ChecksumRange {
      std::uint64_t logical;
      Buffer checksums;
    };
    std::vector<ChecksumRange> runs;
    std::vector<Item> others;
    for (Item& one : items) {
      if (one.key.type != item::checksums) {
        others.push_back(std::move(one));
        continue;
      }
      for (std::size_t at = 0; at + width <= one.data.size(); at += width) {
        const std::uint64_t here = moved(one.key.offset + at / width * sector);
        const bool joins =
            at != 0 && here == runs.back().logical + runs.back().checksums.size() / width * sector;
        if (!joins) runs.push_back({here, {}});
        const auto from = one.data.begin() + static_cast<std::ptrdiff_t>(at);
        runs.back().checksums.insert(runs.back().checksums.end(), from,
                                     from + static_cast<std::ptrdiff_t>(width));
      }
    }
    std::sort(runs.begin(), runs.end(),
              [](const ChecksumRange& a, const ChecksumRange& b) { return a.logical < b.logical; });
    // Not longer than the guest's kernel makes them; rather shorter, so that leaves fill well.
    const std::size_t room = volume_.node_size() - sizeof(BlockHeader) - 2 * sizeof(LeafItem);
    const std::size_t most = std::min<std::size_t>(room / width - 1, 4096) / 4 * width;
    items = std::move(others);
    for (const ChecksumRange& run : runs) {
      const bool joins =
          !items.empty() && items.back().key.type == item::checksums &&
          items.back().key.offset + items.back().data.size() / width * sector == run.logical;
      for (std::size_t at = 0; at < run.checksums.size();) {
        const bool here = (at != 0 || joins) && items.back().data.size() < most;
        if (!here)
          items.push_back(
              {{object::checksums, item::checksums, run.logical + at / width * sector}, {}});
        Buffer& data = items.back().data;
        const std::size_t step = std::min(run.checksums.size() - at, most - data.size());
        const auto from = run.checksums.begin() + static_cast<std::ptrdiff_t>(at);
        data.insert(data.end(), from, from + static_cast<std::ptrdiff_t>(step));
        at += step;
      }
    }
  }

  void free_space(std::vector<Item>& items) const {
    std::map<std::uint64_t, Ranges> free;  // of chunks that something comes to
    const auto take = [&](std::uint64_t at, std::uint64_t length) {
      const auto [logical, chunk] = volume_.chunk_of(at, length);
      auto [room, fresh] = free.try_emplace(logical);
      if (fresh) room->second = free_in(volume_, logical, *chunk);
      remove_range(room->second, at, at + length);
    };
    for (const ExtentMove& move : plan_.extents) take(move.to, move.length);
    for (const FreshBlock& block : fresh_) take(block.at, volume_.node_size());
    renew_free_space(volume_, items, free,
                     [this](std::uint64_t chunk) { return is_emptied(chunk); });
  }

  // For emergencies the superblock keeps where the main trees were, of four commits.
  void move_backup_roots(Superblock& super) const {
    constexpr std::size_t length = 168;
    for (std::size_t at = 0; at < super.backup_roots.size(); at += length)
      for (const std::size_t root : {0, 16, 32, 48, 64, 80})
        put_at(super.backup_roots, at + root,
               Le64(moved(parse_as<Le64>(super.backup_roots, at + root).value())));
  }

  Volume& volume_;
  const Shrinking& plan_;
  Progress& progress_;
  std::uint64_t copied_ = 0;  // bytes
  std::vector<FreshBlock> fresh_;
  std::map<std::uint64_t, Root> new_roots_;  // of trees that have become higher
  std::unordered_set<std::uint64_t> rewritten_;
};

}  // namespace

void copy_unreferenced(Store& place, std::uint64_t from, std::uint64_t to, std::uint64_t length,
                       std::uint64_t& copied, Progress& progress) {
  copy_in_pieces(place, from, place, to, length,
                 [&](std::uint64_t done) { progress.advance(copied + done); });
  copied += length;
}

void empty_chunks(Volume& volume, const Shrinking& plan, Progress& progress) {
  Relocation(volume, plan, progress).run();
}

}  // namespace jh::btrfs

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "core/base/ranges.h"
#include "core/fs/btrfs/audit.h"
#include "core/fs/btrfs/extents.h"
#include "core/fs/btrfs/files.h"
#include "core/fs/btrfs/free_space.h"
#include "core/fs/btrfs/references.h"

namespace jh::btrfs {
namespace {

struct DataReference {
  std::uint64_t start = 0;
  std::uint64_t length = 0;
  ReferenceSum who;
};

class TreesAudit {
 public:
  TreesAudit(const Volume& volume, Findings& findings, Progress& progress)
      : volume_(volume), findings_(findings), progress_(progress) {}

  void run() {
    find_shared_blocks();
    for (const ListedRoot& listed : all_roots(volume_)) {
      // Of one that is being deleted parts are gone already, though nodes still lead there.
      dropping_ = dropping_ || listed.dropping;
      if (listed.dropping) continue;
      where_ = fmt::format("btrfs, tree {}", static_cast<std::int64_t>(listed.number));
      guarded([&] {
        blocks_[listed.root.block].told.add(Reference{item::tree_reference, listed.number});
        descend(listed.root.block, listed.root.generation, listed.root.level, listed.number);
      });
    }
    where_ = "btrfs, extents";
    guarded([&] { extents(); });
    where_ = "btrfs, free space";
    if (volume_.has(ro_compatible::free_space_tree) && volume_.has(ro_compatible::free_space_valid))
      guarded([&] { audit_free_space(volume_, findings_); });
  }

 private:
  struct Block {
    ReferenceSum told;
    bool seen = false;   // by the walk
    bool known = false;  // to the tree of extents
    unsigned level = 0;
    std::uint64_t generation = 0;
  };

  void add(const std::string& what) { findings_.add(where_, what); }

  template <class Work>
  void guarded(const Work& work) {
    try {
      work();
    } catch (const Error& error) {
      if (error.status() != Status::damaged) throw;
      complete_ = false;
      add(error.what());
    }
  }

  // Blocks whose children are referred to by their address, and not by the tree.
  void find_shared_blocks() {
    constexpr std::uint64_t full_references = 1 << 8;
    where_ = "btrfs, extents";
    guarded([&] {
      const auto root = volume_.tree(object::extent_tree);
      if (!root) corrupt("it has no tree of extents");
      for_each_item(volume_, *root, {}, {}, [&](const Key& key, ConstByteSpan data) {
        if ((key.type == item::extent || key.type == item::metadata) &&
            data.size() >= sizeof(ExtentItem) &&
            (parse_as<ExtentItem>(data, 0).flags.value() & full_references) != 0)
          shared_.push_back(key.object);
      });
    });
  }
  bool is_shared(std::uint64_t block) const {
    return std::binary_search(shared_.begin(), shared_.end(), block);
  }

  void descend(std::uint64_t at, std::uint64_t generation, unsigned level, std::uint64_t tree) {
    Block& known = blocks_[at];
    if (known.seen) return;
    known.seen = true;
    known.level = level;
    known.generation = generation;
    progress_.advance(0);
    const auto kept = volume_.block(at, generation, level);
    const Buffer& bytes = *kept;
    copies(at, generation, level);
    if (level == 0) check_leaf(bytes);
    const auto header = parse_as<BlockHeader>(bytes, 0);
    // Snapshots share their blocks, and so does what a balance works with.
    const bool may_share = object::is_of_files(tree) || tree == object::relocation;
    if (!may_share && header.owner.value() != tree)
      add(fmt::format("the tree block at {} is of tree {}", at,
                      static_cast<std::int64_t>(header.owner.value())));
    const std::uint64_t flags = header.flags.value() & ~block_flag::revision_mask;
    if ((flags & block_flag::written) == 0 || (!may_share && flags != block_flag::written))
      add(fmt::format("the tree block at {} has impossible flags", at));
    const std::uint64_t owner = header.owner.value();
    if (level == 0) {
      leaf(at, owner, bytes, may_share || object::has_inodes(tree) || tree == object::root_tree);
      return;
    }
    order(at, bytes);
    for (std::size_t i = 0; i < header.items.value(); ++i) {
      const NodeEntry child = node_entry(bytes, i);
      blocks_[child.block.value()].told.add(is_shared(at)
                                                ? Reference{item::shared_tree_reference, at}
                                                : Reference{item::tree_reference, owner});
      guarded([&] {
        descend(child.block.value(), child.generation.value(), level - 1, tree);
        first_key(child);
      });
    }
  }

  void order(std::uint64_t at, ConstByteSpan bytes) {
    const std::size_t count = item_count(bytes);
    if (count == 0) add(fmt::format("the tree block at {} leads nowhere", at));
    for (std::size_t i = 1; i < count; ++i)
      if (entry_key(bytes, i) <= entry_key(bytes, i - 1))
        add(fmt::format("the tree block at {} has its keys out of order", at));
  }

  // A parent has the first key of each of its children.
  void first_key(const NodeEntry& child) {
    const auto found = first_keys_.find(child.block.value());
    if (found != first_keys_.end() && found->second != key_of(child.key))
      add(fmt::format("the tree block at {} does not begin with its parent's key",
                      child.block.value()));
  }

  void copies(std::uint64_t at, std::uint64_t generation, unsigned level) {
    const auto places = volume_.places(at, volume_.node_size());
    for (std::size_t i = 0; i < places.size(); ++i) {
      const Buffer bytes = read_buffer(volume_.place(), places[i], volume_.node_size());
      const std::string fault = volume_.fault(bytes, at, generation, level);
      if (!fault.empty()) add(fmt::format("copy {} of the tree block at {}: {}", i + 1, at, fault));
      if (i != 0 || !fault.empty()) continue;
      if (item_count(bytes) != 0)
        first_keys_[at] = level == 0 ? key_of(leaf_item(bytes, 0).key) : entry_key(bytes, 0);
    }
  }

  void leaf(std::uint64_t at, std::uint64_t owner, ConstByteSpan bytes, bool has_files) {
    const std::size_t count = item_count(bytes);
    for (std::size_t i = 0; i < count; ++i) {
      const Key key = key_of(leaf_item(bytes, i).key);
      if (i != 0 && key <= key_of(leaf_item(bytes, i - 1).key))
        add(fmt::format("the tree block at {} has its keys out of order", at));
      if (is_of_another_tree(owner, key.type))
        add(fmt::format("the tree block at {} has an item of another tree", at));
      if (!has_files || key.type != item::file_extent) continue;
      const ConstByteSpan data = item_data(bytes, i);
      const FileExtent extent = file_extent(data);
      if (extent.is_inline() || extent.place.block.value() == 0) continue;  // nowhere, or a hole
      const FileExtentPlace& place = extent.place;
      ReferenceSum who;
      who.add(is_shared(at) ? Reference{item::shared_data_reference, at}
                            : Reference{item::data_reference, owner, key.object,
                                        key.offset - place.offset.value()});
      data_.push_back({place.block.value(), place.block_length.value(), who});
    }
  }

  // Quotas: their state, counts, limits and members; identities of subvolumes, own and received.
  static bool is_of_another_tree(std::uint64_t tree, std::uint8_t type) {
    if (tree == object::quota_tree) return type < 240 || type > 246 || type % 2 != 0;
    if (tree == object::uuid_tree) return type != 251 && type != 252;
    return false;
  }

  // What the tree of extents says of one of them.
  struct Counted {
    std::uint64_t start = 0;
    std::uint64_t length = 0;
    std::uint64_t references = 0;
    bool tree_block = false;
    std::uint64_t level = 0;
    std::uint64_t generation = 0;
    ReferenceSum told;
  };

  void extents() {
    std::sort(data_.begin(), data_.end(),
              [](const DataReference& a, const DataReference& b) { return a.start < b.start; });
    const auto root = volume_.tree(object::extent_tree);
    if (!root) return;
    Counted now;
    for_each_item(volume_, *root, {}, {}, [&](const Key& key, ConstByteSpan data) {
      if (key.type == item::extent || key.type == item::metadata) {
        finish(now);
        now = begin(key, data);
      } else if (key.object == now.start && now.length != 0) {
        if (const auto reference = keyed_reference(key, data)) now.told.add(*reference);
      }
    });
    finish(now);
    if (next_data_ != data_.size() && complete_)
      add(fmt::format("the extent at {} is used, but not known", data_[next_data_].start));
    for (const auto& [at, block] : blocks_)
      if (block.seen && !block.known)
        add(fmt::format("the tree block at {} is used, but not known", at));
    groups();
  }

  Counted begin(const Key& key, ConstByteSpan data) {
    if (data.size() < sizeof(ExtentItem)) corrupt("the item of an extent is too short");
    const auto head = parse_as<ExtentItem>(data, 0);
    Counted made;
    made.start = key.object;
    made.tree_block = (head.flags.value() & extent_flag::tree_block) != 0;
    made.length = key.type == item::metadata ? volume_.node_size() : key.offset;
    made.references = head.references.value();
    made.generation = head.generation.value();
    if (key.type == item::metadata) made.level = key.offset;
    const std::size_t at = references_at(key.type, data);
    if (made.tree_block && key.type == item::extent) made.level = data[at - 1];
    for_each_inline_reference(
        key.type, data,
        [&](const Reference& reference, std::size_t, std::size_t) { made.told.add(reference); });
    if (made.start < reached_ || made.length == 0)
      add(fmt::format("the extent at {} lies on another one", made.start));
    reached_ = made.start + made.length;
    return made;
  }

  void finish(const Counted& extent) {
    if (extent.length == 0) return;
    ReferenceSum used;
    if (extent.tree_block) {
      const auto found = blocks_.find(extent.start);
      if (found != blocks_.end()) {
        used = found->second.told;
        found->second.known = true;
        if (found->second.seen &&
            (found->second.level != extent.level || found->second.generation != extent.generation))
          add(fmt::format("the tree block at {} is of another level or time than is known",
                          extent.start));
      }
    } else {
      for (; next_data_ < data_.size() && data_[next_data_].start <= extent.start; ++next_data_) {
        const DataReference& one = data_[next_data_];
        if (one.start != extent.start || one.length != extent.length) {
          if (complete_) add(fmt::format("the extent at {} is used, but not known", one.start));
          continue;
        }
        used.add(one.who);
      }
    }
    const auto [start, chunk] = volume_.chunk_of(extent.start, extent.length);
    used_[start] += extent.length;
    const std::uint64_t kind = extent.tree_block ? chunk_type::metadata | chunk_type::system
                                                 : std::uint64_t{chunk_type::data};
    if (extent.generation > volume_.super().generation.value())
      add(fmt::format("the extent at {} has a generation of the future", extent.start));
    if ((chunk->type & kind) == 0)
      add(fmt::format("the extent at {} lies in a chunk of another kind", extent.start));
    // Who is being deleted is in between; what could not be read refers to nobody knows what.
    if (dropping_ || !complete_) return;
    if (extent.references != extent.told.count)
      add(fmt::format("the extent at {} says {} references, and lists {}", extent.start,
                      extent.references, extent.told.count));
    else if (extent.told.count != used.count)
      add(fmt::format("the extent at {} lists {} references, and has {}", extent.start,
                      extent.told.count, used.count));
    else if (extent.told.who != used.who)
      add(fmt::format("the extent at {} is used by others than it lists", extent.start));
  }

  void groups() {
    for_each_block_group(volume_, [&](const BlockGroup& group) {
      const std::uint64_t used = used_[group.start];
      if (used != group.used && complete_)
        add(fmt::format("extents take {} bytes of the block group at {}, but it says {}", used,
                        group.start, group.used));
    });
  }

  const Volume& volume_;
  Findings& findings_;
  Progress& progress_;
  std::string where_;
  std::unordered_map<std::uint64_t, Block> blocks_;
  std::unordered_map<std::uint64_t, Key> first_keys_;
  std::vector<std::uint64_t> shared_;  // ascending
  std::vector<DataReference> data_;
  std::size_t next_data_ = 0;
  std::map<std::uint64_t, std::uint64_t> used_;  // by block group
  std::uint64_t reached_ = 0;
  bool dropping_ = false;
  bool complete_ = true;
};

}  // namespace

void audit_trees(const Volume& volume, Findings& findings, Progress& progress) {
  progress.begin("auditing trees", 0);
  TreesAudit(volume, findings, progress).run();
  progress.end();
}

}  // namespace jh::btrfs

#include "core/fs/btrfs/tree.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/fs/btrfs/checksum_tree.h"
#include "core/fs/btrfs/files.h"

namespace jh::btrfs {
namespace {

// Further copies of a file's content come behind the first, each so much further on.
constexpr std::uint64_t next_copy = 1ULL << 62;

class BtrfsTree final : public FileTree {
 public:
  explicit BtrfsTree(const Volume& volume) : volume_(volume) {
    for (const ListedRoot& listed : all_roots(volume)) {
      if (!object::is_of_files(listed.number) || listed.dropping) continue;
      Subvolume made{listed, {}, next_};
      for_each_item(volume, listed.root, {}, {}, [&](const Key& key, ConstByteSpan) {
        if (key.type == item::inode) made.inodes.push_back(key.object);
      });
      next_ += made.inodes.size();
      subvolumes_.push_back(std::move(made));
    }
    std::sort(subvolumes_.begin(), subvolumes_.end(), [](const Subvolume& a, const Subvolume& b) {
      return a.listed.number < b.listed.number;
    });
  }

  std::vector<Root> roots() override {
    std::vector<Root> all;
    for (const Subvolume& subvolume : subvolumes_) {
      const bool top = subvolume.listed.number == object::top_files;
      all.push_back({top ? "/" : fmt::format("/ of subvolume {}", subvolume.listed.number),
                     node_of(subvolume, object::first_free)});
    }
    return all;
  }
  Node node_end() const override { return next_; }
  bool shares_content() const override { return true; }

  File look(Node node) override {
    const auto [subvolume, inode] = inode_of(node);
    File file;
    std::vector<Extent> further;
    for_each_item(volume_, subvolume->listed.root, {inode, 0, 0}, {inode, UINT8_MAX, UINT64_MAX},
                  [&](const Key& key, ConstByteSpan data) {
                    switch (key.type) {
                      case item::inode:
                        file.folder =
                            data.size() >= sizeof(InodeItem) &&
                            (parse_as<InodeItem>(data, 0).mode.value() & 0xF000) == 0x4000;
                        note(file.facts, key, data);
                        break;
                      case item::file_extent:
                        content(key, data, file, further);
                        break;
                      case item::attribute:
                        note(file.attributes, key, data);
                        break;
                      case item::folder_name:
                      case item::folder_index:
                        break;
                      default:
                        note(file.facts, key, data);
                    }
                  });
    file.content.insert(file.content.end(), further.begin(), further.end());
    return file;
  }

  std::vector<Entry> entries(Node folder) override {
    const auto [subvolume, inode] = inode_of(folder);
    std::vector<Entry> all;
    for_each_item(volume_, subvolume->listed.root, {inode, item::folder_index, 0},
                  {inode, item::folder_index, UINT64_MAX},
                  [&, this, from = subvolume](const Key&, ConstByteSpan data) {
                    for_each_name(data, [&](const FolderName& head, ConstByteSpan name) {
                      Entry entry;
                      entry.name.assign(reinterpret_cast<const char*>(name.data()), name.size());
                      entry.type = head.type;
                      const Key where = key_of(head.where);
                      if (where.type == item::inode) entry.node = node_of(*from, where.object);
                      if (where.type == item::root)
                        if (const Subvolume* other = subvolume_of(where.object))
                          entry.node = node_of(*other, object::first_free);
                      all.push_back(std::move(entry));
                    });
                  });
    std::sort(all.begin(), all.end(),
              [](const Entry& a, const Entry& b) { return a.name < b.name; });
    return all;
  }

 private:
  struct Subvolume {
    ListedRoot listed;
    std::vector<std::uint64_t> inodes;  // ascending
    Node first = 0;                     // node of the first of them
  };

  static void note(Buffer& facts, const Key& key, ConstByteSpan data) {
    const DiskKey where = disk_key(key);
    const ConstByteSpan front = bytes_of(where);
    facts.insert(facts.end(), front.begin(), front.end());
    facts.insert(facts.end(), data.begin(), data.end());
  }

  void content(const Key& key, ConstByteSpan data, File& file, std::vector<Extent>& further) {
    const FileExtent extent = file_extent(data);
    if (extent.is_inline()) {
      note(file.facts, key, data);
      return;
    }
    // All but where it lies.
    Buffer told(data.begin(), data.end());
    const std::uint64_t block = extent.place.block.value();
    put_at(told, sizeof(FileExtentHead), Le64(block == 0 ? 0 : 1));
    note(file.facts, key, told);
    if (block == 0) return;
    const std::uint64_t length = extent.place.block_length.value();
    // However the items are cut: the checksums one behind the other, and where there are none.
    std::uint64_t reached = block;
    const std::size_t width = checksum_size(volume_.checksums());
    for_each_checksum_run(volume_, block, block + length,
                          [&](std::uint64_t at, ConstByteSpan checksums) {
                            if (at != reached) {
                              const Le64 gap(at - block);
                              const ConstByteSpan where = bytes_of(gap);
                              file.facts.insert(file.facts.end(), where.begin(), where.end());
                            }
                            file.facts.insert(file.facts.end(), checksums.begin(), checksums.end());
                            reached = at + checksums.size() / width * volume_.sector_size();
                          });
    if (extent.head.type == extent_type::prepared) return;
    const auto places = volume_.places(block, length);
    for (std::size_t copy = 0; copy < places.size(); ++copy) {
      auto& list = copy == 0 ? file.content : further;
      list.push_back({Extent::Kind::data, key.offset + copy * next_copy, places[copy], length});
    }
  }

  const Subvolume* subvolume_of(std::uint64_t number) const {
    const auto found = std::lower_bound(
        subvolumes_.begin(), subvolumes_.end(), number,
        [](const Subvolume& one, std::uint64_t wanted) { return one.listed.number < wanted; });
    return found == subvolumes_.end() || found->listed.number != number ? nullptr : &*found;
  }
  static Node node_of(const Subvolume& subvolume, std::uint64_t inode) {
    const auto& all = subvolume.inodes;
    const auto found = std::lower_bound(all.begin(), all.end(), inode);
    if (found == all.end() || *found != inode) return 0;
    return subvolume.first + static_cast<Node>(found - all.begin());
  }
  std::pair<const Subvolume*, std::uint64_t> inode_of(Node node) const {
    for (const Subvolume& subvolume : subvolumes_)
      if (node >= subvolume.first && node - subvolume.first < subvolume.inodes.size())
        return {&subvolume, subvolume.inodes[node - subvolume.first]};
    corrupt("a name leads to no inode");
  }

  const Volume& volume_;
  std::vector<Subvolume> subvolumes_;  // by number
  Node next_ = 1;
};

}  // namespace

std::unique_ptr<FileTree> file_tree(const Volume& volume) {
  return std::make_unique<BtrfsTree>(volume);
}

}  // namespace jh::btrfs

#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>
#include <set>

#include "core/base/checksum.h"
#include "core/base/ranges.h"
#include "core/fs/btrfs/audit.h"
#include "core/fs/btrfs/checksum_tree.h"
#include "core/fs/btrfs/files.h"

namespace jh::btrfs {
namespace {

constexpr std::uint32_t kind_mask = 0xF000;
constexpr std::uint32_t folder_kind = 0x4000;
constexpr std::uint32_t file_kind = 0x8000;

// What a folder says of the kind of an inode with this mode.
std::uint8_t kind_in_folder(std::uint32_t mode) {
  switch (mode & kind_mask) {
    case file_kind:
      return 1;
    case folder_kind:
      return 2;
    case 0x2000:
      return 3;
    case 0x6000:
      return 4;
    case 0x1000:
      return 5;
    case 0xC000:
      return 6;
    case 0xA000:
      return 7;
    default:
      return 0;
  }
}

// A name, as a folder has it or as the inode says it, and where: 64 bits that do not depend on each
// other.
std::uint64_t name_sum(std::uint64_t folder, std::uint64_t inode, std::uint64_t index,
                       std::uint8_t kind, ConstByteSpan name) {
  Buffer bytes(25);
  bytes[24] = kind;
  put_at(bytes, 0, Le64(folder));
  put_at(bytes, 8, Le64(inode));
  put_at(bytes, 16, Le64(index));
  bytes.insert(bytes.end(), name.begin(), name.end());
  return XXH64(bytes.data(), bytes.size(), 0);
}

// A subvolume in a folder of another one, as three places say it.
struct SubvolumeName {
  std::uint64_t parent = 0;
  std::uint64_t child = 0;
  std::uint64_t folder = 0;
  std::uint64_t index = 0;
  Buffer name;
  auto operator<=>(const SubvolumeName&) const = default;
};
using SubvolumeNames = std::set<SubvolumeName>;

// One subvolume, item by item: those of an inode follow one another.
class Files {
 public:
  Files(const Volume& volume, const ListedRoot& listed, SubvolumeNames& subvolumes,
        Findings& findings, Progress& progress)
      : volume_(volume),
        listed_(listed),
        subvolumes_(subvolumes),
        findings_(findings),
        progress_(progress),
        where_(fmt::format("btrfs, subvolume {}", static_cast<std::int64_t>(listed.number))) {}

  void run() {
    for_each_item(volume_, listed_.root, {}, {}, [&](const Key& key, ConstByteSpan data) {
      if (key.object < object::first_free || key.object > object::last_free) return;
      if (key.object != now_.number) {
        finish();
        now_ = {};
        now_.number = key.object;
        progress_.advance(0);
      }
      take(key, data);
    });
    finish();
    compare_names();
  }

 private:
  struct Inode {
    std::uint64_t number = 0;
    std::optional<InodeItem> core;
    std::uint64_t names = 0;
    std::uint64_t listed = 0;    // of a folder: lengths of its names
    std::uint64_t by_hash = 0;   // checksums of its names, as they are found by hash
    std::uint64_t by_index = 0;  // and by index
    std::uint64_t content = 0;   // bytes
    std::uint64_t content_end = 0;
    bool only_gone = true;  // nothing but the note that it is to be removed
  };

  void add(const std::string& what) { findings_.add(where_, what); }

  void take(const Key& key, ConstByteSpan data) {
    now_.only_gone = false;
    switch (key.type) {
      case item::inode:
        if (data.size() < sizeof(InodeItem)) corrupt("an inode is cut off");
        now_.core = parse_as<InodeItem>(data, 0);
        break;
      case item::inode_name:
        own_names(key, data);
        break;
      case item::inode_name_far:
        own_far_names(data);
        break;
      case item::folder_name:
      case item::folder_index:
        folder_names(key, data);
        break;
      case item::file_extent:
        extent(key, data);
        break;
      default:
        break;
    }
  }

  void own_name(std::uint64_t folder, std::uint64_t index, ConstByteSpan name) {
    ++now_.names;
    if (folder == now_.number) {  // the subvolume's root
      if (index != 0 || std::string(name.begin(), name.end()) != "..")
        add(fmt::format("folder {} has a name in itself", now_.number));
      return;
    }
    const std::uint32_t mode = now_.core ? now_.core->mode.value() : 0;
    said_.push_back(name_sum(folder, now_.number, index, kind_in_folder(mode), name));
  }

  void own_names(const Key& key, ConstByteSpan data) {
    for (std::size_t at = 0; at < data.size();) {
      if (data.size() - at < sizeof(InodeName)) corrupt("an inode's name is cut off");
      const auto head = parse_as<InodeName>(data, at);
      at += sizeof(InodeName);
      const std::size_t length = head.name_length.value();
      if (length > data.size() - at) corrupt("an inode's name is cut off");
      own_name(key.offset, head.index.value(), data.subspan(at, length));
      at += length;
    }
  }

  void own_far_names(ConstByteSpan data) {
    for (std::size_t at = 0; at < data.size();) {
      if (data.size() - at < sizeof(InodeNameFar)) corrupt("an inode's name is cut off");
      const auto head = parse_as<InodeNameFar>(data, at);
      at += sizeof(InodeNameFar);
      const std::size_t length = head.name_length.value();
      if (length > data.size() - at) corrupt("an inode's name is cut off");
      own_name(head.parent.value(), head.index.value(), data.subspan(at, length));
      at += length;
    }
  }

  void folder_names(const Key& key, ConstByteSpan data) {
    for_each_name(data, [&](const FolderName& head, ConstByteSpan name) {
      now_.listed += name.size();
      const Key where = key_of(head.where);
      const std::uint64_t plain = name_sum(now_.number, where.object, where.type, head.type, name);
      if (key.type == item::folder_name) {
        now_.by_hash += plain;
        // Found by a hash of their own: CRC-32C with a start of minus two.
        if (crc32c_raw(~1U, name) != key.offset)
          add(fmt::format("folder {} has a name under the wrong hash", now_.number));
        return;
      }
      now_.by_index += plain;
      if (where.type == item::inode)
        listed_names_.push_back(name_sum(now_.number, where.object, key.offset, head.type, name));
      else if (where.type == item::root)
        subvolumes_.insert({listed_.number, where.object, now_.number, key.offset,
                            Buffer(name.begin(), name.end())});
    });
  }

  void extent(const Key& key, ConstByteSpan data) {
    const FileExtent extent = file_extent(data);
    const FileExtentHead& head = extent.head;
    const FileExtentPlace& place = extent.place;
    const bool compressed = head.compression != compression::none;
    const bool odd = head.compression > compression::zstd || head.encryption != 0 ||
                     head.other.value() != 0 ||
                     (compressed && head.type == extent_type::prepared) ||
                     (!compressed && extent.is_inline() &&
                      head.decompressed.value() != data.size() - sizeof(head));
    if (odd)
      add(fmt::format("inode {} has an extent that is packed in an unknown way", now_.number));
    if (head.generation.value() > volume_.super().generation.value())
      add(fmt::format("inode {} has an extent with a generation of the future", now_.number));
    if (key.offset < now_.content_end)
      add(fmt::format("inode {} has two extents for the same bytes", now_.number));
    if (extent.is_inline()) {
      now_.content += head.decompressed.value();
      now_.content_end = key.offset + round_up(head.decompressed.value(), volume_.sector_size());
      return;
    }
    if (head.type > extent_type::prepared) corrupt("a file's extent is impossible");
    const std::uint64_t length = place.length.value();
    if (length == 0 || length % volume_.sector_size() != 0 ||
        key.offset % volume_.sector_size() != 0)
      add(fmt::format("inode {} has an extent that is no whole sectors", now_.number));
    now_.content_end = key.offset + length;
    if (place.offset.value() > head.decompressed.value() ||
        length > head.decompressed.value() - place.offset.value())
      add(fmt::format("inode {} uses more of an extent than it says there is", now_.number));
    if (place.block.value() == 0) return;  // a hole
    now_.content += length;
    const std::uint64_t room = compressed ? head.decompressed.value() : place.block_length.value();
    if (place.offset.value() > room || length > room - place.offset.value())
      add(fmt::format("inode {} uses more of an extent than there is", now_.number));
    else
      check_sums(head, place);
  }

  // What has checksums has them for all of it; what has none has none.
  void check_sums(const FileExtentHead& head, const FileExtentPlace& place) {
    const bool compressed = head.compression != compression::none;
    const std::uint64_t from = place.block.value() + (compressed ? 0 : place.offset.value());
    const std::uint64_t length = compressed ? place.block_length.value() : place.length.value();
    std::uint64_t there = 0;
    for_each_checksum_run(
        volume_, from, from + length, [&](std::uint64_t, ConstByteSpan checksums) {
          there += checksums.size() / checksum_size(volume_.checksums()) * volume_.sector_size();
        });
    const bool has_none = head.type == extent_type::prepared ||
                          (now_.core && (now_.core->flags.value() & inode_flag::no_sums) != 0);
    if (has_none ? there != 0 : there < length)
      add(fmt::format("inode {} has checksums for {} of the {} bytes at {}", now_.number, there,
                      length, from));
  }

  void finish() {
    if (now_.number == 0) return;
    if (!now_.core) {
      if (!now_.only_gone) add(fmt::format("inode {} has parts, but is none", now_.number));
      return;
    }
    const InodeItem& core = *now_.core;
    const std::uint32_t kind = core.mode.value() & kind_mask;
    if (kind_in_folder(core.mode.value()) == 0 || core.mode.value() > 0xFFFF)
      add(fmt::format("inode {} is of an unknown kind", now_.number));
    const std::uint64_t newest = volume_.super().generation.value();
    if (core.generation.value() > newest || core.transaction.value() > newest)
      add(fmt::format("inode {} has a generation of the future", now_.number));
    if (core.links.value() != now_.names)
      add(fmt::format("inode {} says {} links, and has {}", now_.number, core.links.value(),
                      now_.names));
    if (kind == folder_kind) {
      if (core.size.value() != now_.listed)
        add(fmt::format("folder {} says that its names take {} bytes, and they take {}",
                        now_.number, core.size.value(), now_.listed));
      if (now_.by_hash != now_.by_index)
        add(fmt::format("folder {} has other names by hash than by index", now_.number));
    } else if (now_.listed != 0) {
      add(fmt::format("inode {} is no folder, and has names", now_.number));
    }
    if (kind == file_kind && core.bytes.value() != now_.content)
      add(fmt::format("inode {} says that it has {} bytes, and has {}", now_.number,
                      core.bytes.value(), now_.content));
  }

  // What folders list and what inodes say of their names must be the same.
  void compare_names() {
    std::sort(said_.begin(), said_.end());
    std::sort(listed_names_.begin(), listed_names_.end());
    if (said_ == listed_names_) return;
    std::vector<std::uint64_t> rest;
    std::set_symmetric_difference(said_.begin(), said_.end(), listed_names_.begin(),
                                  listed_names_.end(), std::back_inserter(rest));
    add(fmt::format("{} names are in a folder and not said by their inode, or the other way round",
                    rest.size()));
  }

  const Volume& volume_;
  const ListedRoot& listed_;
  SubvolumeNames& subvolumes_;
  Findings& findings_;
  Progress& progress_;
  std::string where_;
  Inode now_;
  std::vector<std::uint64_t> said_;
  std::vector<std::uint64_t> listed_names_;
};

// What the tree of trees says of subvolumes: the parent of its children, these of their parent.
void audit_subvolumes(const Volume& volume, const SubvolumeNames& in_folders, Findings& findings) {
  SubvolumeNames by_parents;
  SubvolumeNames by_children;
  std::map<std::uint64_t, std::uint64_t> references;
  const std::string where = "btrfs, subvolumes";
  for_each_item(volume, volume.root_tree(), {}, {}, [&](const Key& key, ConstByteSpan data) {
    if (key.type == item::root && data.size() >= sizeof(RootItem)) {
      const auto root = parse_as<RootItem>(data, 0);
      references[key.object] = root.references.value();
      // What is being removed is looked into by nobody: it must be out of everybody's reach.
      if (object::is_of_files(key.object) && root.references.value() != 0 &&
          key_of(root.dropped_until) != Key{})
        findings.add(where,
                     fmt::format("subvolume {} is being removed, and still in use", key.object));
      const bool subvolume = object::is_of_files(key.object) && key.object != object::top_files;
      if (!subvolume && key.offset != 0)
        findings.add(where, fmt::format("tree {} is listed at another place than it has",
                                        static_cast<std::int64_t>(key.object)));
      if (object::has_inodes(key.object) && root.root_folder.value() != object::first_free)
        findings.add(where, fmt::format("tree {} begins at a folder that is none",
                                        static_cast<std::int64_t>(key.object)));
      const std::uint64_t newest = volume.super().generation.value();
      if (root.generation.value() > newest || root.last_snapshot.value() > newest)
        findings.add(where, fmt::format("tree {} has a generation of the future",
                                        static_cast<std::int64_t>(key.object)));
      return;
    }
    if (key.type != item::root_child && key.type != item::root_parent) return;
    if (data.size() < sizeof(RootName)) corrupt("the name of a subvolume is cut off");
    const auto head = parse_as<RootName>(data, 0);
    if (head.name_length.value() != data.size() - sizeof(RootName))
      corrupt("the name of a subvolume is cut off");
    const bool child = key.type == item::root_child;
    (child ? by_parents : by_children)
        .insert({child ? key.object : key.offset, child ? key.offset : key.object,
                 head.folder.value(), head.index.value(),
                 Buffer(data.begin() + sizeof(RootName), data.end())});
  });
  if (by_parents != by_children)
    findings.add(where, "what subvolumes say of their parents is not what these say of them");
  // Of one that is deleted a name may be left, which leads nowhere.
  for (const SubvolumeName& name : by_parents)
    if (!in_folders.contains(name) && references.contains(name.parent) &&
        references[name.child] != 0)
      findings.add(where, fmt::format("subvolume {} has no name in its folder", name.child));
  if (references[object::top_files] == 0)
    findings.add(where, "the tree that all others hang from is not there");
  for (const auto& [number, count] : references) {
    if (number < object::first_free || number > object::last_free) continue;
    std::uint64_t named = 0;
    for (const SubvolumeName& name : by_children) named += name.child == number ? 1 : 0;
    if (count != named)
      findings.add(where,
                   fmt::format("subvolume {} says {} names, and has {}", number, count, named));
  }
}

}  // namespace

void audit_files(const Volume& volume, Findings& findings, Progress& progress) {
  progress.begin("auditing files", 0);
  std::set<std::uint64_t> looked_into;  // snapshots may have the very same blocks
  SubvolumeNames subvolumes;
  for (const ListedRoot& listed : all_roots(volume)) {
    if (!object::has_inodes(listed.number) || listed.dropping ||
        !looked_into.insert(listed.root.block).second)
      continue;
    try {
      Files(volume, listed, subvolumes, findings, progress).run();
    } catch (const Error& error) {
      if (error.status() != Status::damaged) throw;
      findings.add(fmt::format("btrfs, subvolume {}", static_cast<std::int64_t>(listed.number)),
                   error.what());
    }
  }
  try {
    audit_subvolumes(volume, subvolumes, findings);
  } catch (const Error& error) {
    if (error.status() != Status::damaged) throw;
    findings.add("btrfs, subvolumes", error.what());
  }
  progress.end();
}

}  // namespace jh::btrfs

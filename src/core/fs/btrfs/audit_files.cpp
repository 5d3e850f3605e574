#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "core/base/checksum.h"
#include "core/base/ranges.h"
#include "core/fs/btrfs/audit.h"
#include "core/fs/btrfs/files.h"

namespace jh::btrfs {
namespace {

constexpr std::uint32_t kind_mask = 0xF000;
constexpr std::uint32_t folder_kind = 0x4000;
constexpr std::uint32_t file_kind = 0x8000;

// A name, as a folder has it or as the inode says it: 64 bits of it and of where.
std::uint64_t name_sum(std::uint64_t folder, std::uint64_t inode, std::uint64_t index,
                       ConstByteSpan name) {
  Buffer bytes(24);
  put_at(bytes, 0, Le64(folder));
  put_at(bytes, 8, Le64(inode));
  put_at(bytes, 16, Le64(index));
  bytes.insert(bytes.end(), name.begin(), name.end());
  const std::uint64_t low = crc32c(bytes);
  put_at(bytes, 0, Le64(folder ^ 0x5A5A5A5A5A5A5A5AULL));
  return low << 32 | crc32c(bytes);
}

// One subvolume, item by item: those of an inode follow one another.
class Files {
 public:
  Files(const Volume& volume, const ListedRoot& listed, Findings& findings, Progress& progress)
      : volume_(volume),
        listed_(listed),
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
    std::uint64_t by_hash = 0;   // sums of its names, as they are found by hash
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
        if (data.size() < sizeof(InodeItem)) wrong("an inode is cut off");
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
    if (folder == now_.number) return;  // the subvolume's root
    said_.push_back(name_sum(folder, now_.number, index, name));
  }

  void own_names(const Key& key, ConstByteSpan data) {
    for (std::size_t at = 0; at < data.size();) {
      if (data.size() - at < sizeof(InodeName)) wrong("an inode's name is cut off");
      const auto head = parse_as<InodeName>(data, at);
      at += sizeof(InodeName);
      const std::size_t length = head.name_length.value();
      if (length > data.size() - at) wrong("an inode's name is cut off");
      own_name(key.offset, head.index.value(), data.subspan(at, length));
      at += length;
    }
  }

  void own_far_names(ConstByteSpan data) {
    for (std::size_t at = 0; at < data.size();) {
      if (data.size() - at < sizeof(InodeNameFar)) wrong("an inode's name is cut off");
      const auto head = parse_as<InodeNameFar>(data, at);
      at += sizeof(InodeNameFar);
      const std::size_t length = head.name_length.value();
      if (length > data.size() - at) wrong("an inode's name is cut off");
      own_name(head.parent.value(), head.index.value(), data.subspan(at, length));
      at += length;
    }
  }

  void folder_names(const Key& key, ConstByteSpan data) {
    for_each_name(data, [&](const FolderName& head, ConstByteSpan name) {
      now_.listed += name.size();
      const Key where = key_of(head.where);
      const std::uint64_t plain = name_sum(now_.number, where.object, where.type, name);
      if (key.type == item::folder_name) {
        now_.by_hash += plain;
        // Found by a hash of their own: CRC-32C with a start of minus two.
        if (crc32c_raw(~1U, name) != key.offset)
          add(fmt::format("folder {} has a name under the wrong hash", now_.number));
        return;
      }
      now_.by_index += plain;
      if (where.type == item::inode)
        listed_names_.push_back(name_sum(now_.number, where.object, key.offset, name));
    });
  }

  void extent(const Key& key, ConstByteSpan data) {
    if (data.size() < sizeof(FileExtentHead)) wrong("a file's extent is cut off");
    const auto head = parse_as<FileExtentHead>(data, 0);
    if (key.offset < now_.content_end)
      add(fmt::format("inode {} has two extents for the same bytes", now_.number));
    if (head.type == extent_type::in_line) {
      now_.content += head.unpacked.value();
      now_.content_end = key.offset + round_up(head.unpacked.value(), volume_.sector_size());
      return;
    }
    if (head.type > extent_type::prepared ||
        data.size() < sizeof(FileExtentHead) + sizeof(FileExtentPlace))
      wrong("a file's extent is impossible");
    const auto place = parse_as<FileExtentPlace>(data, sizeof(FileExtentHead));
    const std::uint64_t length = place.length.value();
    if (length == 0 || length % volume_.sector_size() != 0 ||
        key.offset % volume_.sector_size() != 0)
      add(fmt::format("inode {} has an extent that is no whole sectors", now_.number));
    now_.content_end = key.offset + length;
    if (place.block.value() == 0) return;  // a hole
    now_.content += length;
    const std::uint64_t room =
        head.compression == compression::none ? place.block_length.value() : head.unpacked.value();
    if (place.offset.value() > room || length > room - place.offset.value())
      add(fmt::format("inode {} uses more of an extent than there is", now_.number));
  }

  void finish() {
    if (now_.number == 0) return;
    if (!now_.core) {
      if (!now_.only_gone) add(fmt::format("inode {} has parts, but is none", now_.number));
      return;
    }
    const InodeItem& core = *now_.core;
    const std::uint32_t kind = core.mode.value() & kind_mask;
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
  Findings& findings_;
  Progress& progress_;
  std::string where_;
  Inode now_;
  std::vector<std::uint64_t> said_;
  std::vector<std::uint64_t> listed_names_;
};

}  // namespace

void audit_files(const Volume& volume, Findings& findings, Progress& progress) {
  std::set<std::uint64_t> looked_into;  // snapshots may have the very same blocks
  for (const ListedRoot& listed : all_roots(volume)) {
    const bool files = listed.number == object::top_files ||
                       (listed.number >= object::first_free && listed.number <= object::last_free);
    if (!files || listed.dropping || !looked_into.insert(listed.root.block).second) continue;
    try {
      Files(volume, listed, findings, progress).run();
    } catch (const Error& error) {
      if (error.status() != Status::damaged) throw;
      findings.add(fmt::format("btrfs, subvolume {}", listed.number), error.what());
    }
  }
}

}  // namespace jh::btrfs

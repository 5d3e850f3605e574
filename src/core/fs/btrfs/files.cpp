#include "core/fs/btrfs/files.h"

#include <algorithm>
#include <boost/algorithm/string.hpp>

#include "core/fs/btrfs/decompress.h"

namespace jh::btrfs {
namespace {

constexpr unsigned most_links = 16;

struct Place {
  std::uint64_t subvolume = 0;
  std::uint64_t inode = 0;
};

std::string text_of(ConstByteSpan bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

class Reader {
 public:
  explicit Reader(const Volume& volume) : volume_(volume) {}

  // The way from the top down to what is found, by a path from the end of another way.
  std::optional<std::vector<Place>> find(std::vector<Place> way, const std::string& path,
                                         unsigned& links) {
    std::vector<std::string> names;
    boost::split(names, path, boost::is_any_of("/"), boost::token_compress_on);
    if (path.starts_with('/')) way.resize(1);
    for (const std::string& name : names) {
      if (name.empty() || name == ".") continue;
      if (name == "..") {
        if (way.size() > 1) way.pop_back();
        continue;
      }
      const auto next = step(way.back(), name);
      if (!next) return std::nullopt;
      if (!is_link(*next)) {
        way.push_back(*next);
        continue;
      }
      if (++links > most_links) return std::nullopt;
      const auto target = find(way, text(*next, 4096).value_or(""), links);
      if (!target) return std::nullopt;
      way = *target;
    }
    return way;
  }

  std::optional<std::string> read(std::uint64_t subvolume, const std::string& path,
                                  std::uint64_t limit) {
    unsigned links = 0;
    const auto found = find({{subvolume, object::first_free}}, path, links);
    if (!found || (mode(found->back()) & 0xF000) != 0x8000) return std::nullopt;
    return text(found->back(), limit);
  }

 private:
  std::optional<Root> tree(std::uint64_t subvolume) {
    if (subvolume != known_) {
      known_root_ = volume_.tree(subvolume);
      known_ = subvolume;
    }
    return known_root_;
  }

  void each(Place place, std::uint8_t type, std::uint64_t from, std::uint64_t to,
            const std::function<void(const Key&, ConstByteSpan)>& visit) {
    if (const auto root = tree(place.subvolume))
      for_each_item(volume_, *root, {place.inode, type, from}, {place.inode, type, to}, visit);
  }

  std::optional<Place> step(Place folder, const std::string& name) {
    std::optional<Place> found;
    each(folder, item::folder_index, 0, UINT64_MAX, [&](const Key&, ConstByteSpan data) {
      for_each_name(data, [&](const FolderName& head, ConstByteSpan here) {
        if (text_of(here) != name) return;
        const Key where = key_of(head.where);
        if (where.type == item::inode) found = Place{folder.subvolume, where.object};
        if (where.type == item::root) found = Place{where.object, object::first_free};
      });
    });
    return found;
  }

  std::optional<InodeItem> inode(Place place) {
    std::optional<InodeItem> found;
    each(place, item::inode, 0, 0, [&](const Key&, ConstByteSpan data) {
      if (data.size() >= sizeof(InodeItem)) found = parse_as<InodeItem>(data, 0);
    });
    return found;
  }

  std::uint32_t mode(Place place) {
    const auto found = inode(place);
    return found ? found->mode.value() : 0;
  }
  bool is_link(Place place) { return (mode(place) & 0xF000) == 0xA000; }

  std::optional<std::string> text(Place place, std::uint64_t limit) {
    const auto found = inode(place);
    if (!found) return std::nullopt;
    const std::uint64_t size = std::min(found->size.value(), limit);
    std::string out(size, '\0');
    bool readable = true;
    each(place, item::file_extent, 0, size, [&](const Key& key, ConstByteSpan data) {
      const FileExtent extent = file_extent(data);
      if (key.offset >= size || extent.head.type == extent_type::prepared) return;
      const auto bytes = content(extent, data, key.offset + size);
      if (!bytes) {
        readable = false;
        return;
      }
      const std::size_t length = std::min<std::uint64_t>(bytes->size(), size - key.offset);
      std::copy_n(bytes->begin(), length, out.begin() + static_cast<std::ptrdiff_t>(key.offset));
    });
    if (!readable) return std::nullopt;
    return out;
  }

  // The bytes of an extent as the file has them; nothing: not known how.
  std::optional<Buffer> content(const FileExtent& extent, ConstByteSpan data,
                                std::uint64_t wanted) {
    constexpr std::uint64_t most_decompressed = 128 << 10;
    const FileExtentHead& head = extent.head;
    if (head.encryption != 0 || head.other.value() != 0) return std::nullopt;
    if (extent.is_inline()) {
      const ConstByteSpan compressed = data.subspan(sizeof(FileExtentHead));
      return decompress(head.compression, compressed,
                        std::min(head.decompressed.value(), std::uint64_t{most_decompressed}),
                        volume_.sector_size());
    }
    const FileExtentPlace& place = extent.place;
    if (place.block.value() == 0) return Buffer{};  // a hole
    const std::uint64_t on_disk = place.block_length.value();
    if (head.compression == compression::none) {
      const std::uint64_t length = std::min(place.length.value(), wanted);
      if (place.offset.value() > on_disk || length > on_disk - place.offset.value())
        corrupt("a file's extent leaves its place");
      return read_buffer(volume_.place(),
                         volume_.at(place.block.value() + place.offset.value(), length), length);
    }
    if (on_disk > most_decompressed || head.decompressed.value() > most_decompressed)
      return std::nullopt;
    const Buffer compressed =
        read_buffer(volume_.place(), volume_.at(place.block.value(), on_disk), on_disk);
    auto all =
        decompress(head.compression, compressed, head.decompressed.value(), volume_.sector_size());
    if (!all || place.offset.value() > all->size()) return std::nullopt;
    return Buffer(all->begin() + static_cast<std::ptrdiff_t>(place.offset.value()), all->end());
  }

  const Volume& volume_;
  std::uint64_t known_ = 0;
  std::optional<Root> known_root_;
};

}  // namespace

FileExtent file_extent(ConstByteSpan data) {
  if (data.size() < sizeof(FileExtentHead)) corrupt("a file's extent is cut off");
  FileExtent extent{parse_as<FileExtentHead>(data, 0), {}};
  if (extent.is_inline()) return extent;
  if (data.size() < sizeof(FileExtentHead) + sizeof(FileExtentPlace))
    corrupt("a file's extent is cut off");
  extent.place = parse_as<FileExtentPlace>(data, sizeof(FileExtentHead));
  return extent;
}

void for_each_name(ConstByteSpan data,
                   const std::function<void(const FolderName&, ConstByteSpan)>& visit) {
  for (std::size_t at = 0; at < data.size();) {
    if (data.size() - at < sizeof(FolderName)) corrupt("a folder's name is cut off");
    const auto head = parse_as<FolderName>(data, at);
    at += sizeof(FolderName);
    const std::size_t length = head.name_length.value();
    const std::size_t more = head.data_length.value();
    if (length == 0 || length + more > data.size() - at) corrupt("a folder's name is cut off");
    visit(head, data.subspan(at, length));
    at += length + more;
  }
}

std::vector<std::uint64_t> likely_roots(const Volume& volume) {
  std::vector<std::uint64_t> roots;
  const auto add = [&](std::uint64_t number) {
    if (std::find(roots.begin(), roots.end(), number) == roots.end()) roots.push_back(number);
  };
  // A folder of the tree of trees has one name, "default".
  for_each_item(volume, volume.root_tree(),
                {volume.super().root_folder.value(), item::folder_name, 0},
                {volume.super().root_folder.value(), item::folder_name, UINT64_MAX},
                [&](const Key&, ConstByteSpan data) {
                  for_each_name(data, [&](const FolderName& head, ConstByteSpan name) {
                    if (text_of(name) == "default") add(key_of(head.where).object);
                  });
                });
  add(object::top_files);
  constexpr std::size_t most = 64;
  for_each_item(volume, volume.root_tree(), {object::top_files, item::root_child, 0},
                {object::top_files, item::root_child, UINT64_MAX},
                [&](const Key& key, ConstByteSpan) {
                  if (roots.size() < most) add(key.offset);
                });
  return roots;
}

std::optional<std::string> read_file(const Volume& volume, std::uint64_t subvolume,
                                     const std::string& path, std::uint64_t limit) {
  return Reader(volume).read(subvolume, path, limit);
}

}  // namespace jh::btrfs

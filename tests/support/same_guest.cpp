#include "support/same_guest.h"

#include "core/base/checksum.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/ext.h"
#include "core/fs/ext/read.h"
#include "core/guest/content.h"
#include "core/guest/guest.h"
#include "core/guest/unused.h"
#include "support/ext_tools.h"
#include "support/ntfs_accounting.h"
#include "support/test.h"

namespace jh::test {
namespace {

struct OpenGuest {
  OpenGuest(Host& host, const Words& paths) : resolver(host) {
    std::vector<Guest::Image> images;
    for (const std::string& path : paths) {
      files.push_back(host.open(path, Access::read_only));
      images.push_back({path, files.back().get(), false, &resolver});
    }
    guest = std::make_unique<Guest>(images);
  }
  HostFileResolver resolver;
  std::vector<std::unique_ptr<Store>> files;
  std::unique_ptr<Guest> guest;
};

Sums tree_of(ext::Filesystem& fs) {
  Sums tree;
  ext::walk_tree(fs, [&](const std::string& path, const ext::InodeRecord& inode) {
    std::uint32_t sum = inode.fields.mode.value() * 31 + inode.fields.mtime.value();
    sum = sum * 31 + inode.fields.links_count.value();
    if (inode.type() == ext::mode_file) sum += crc32c(ext::read_file(fs, inode, 64U << 20));
    tree[path] = sum;
  });
  return tree;
}

bool holds_files(const Content& content) { return content.is_usual_target(); }

Sums tree_of(const Content& content) {
  return ext_in(content) ? tree_of(*ext_in(content)) : tree_sums(*content.on_disk());
}

// Both are sound, and hold the same files: blocks that a filesystem keeps for itself and does not
// read (descriptors for later growth, bitmaps of groups marked as unused) may differ.
bool same_filesystem(const Layer& before, const Layer& after) {
  if (!holds_files(before.content) ||
      before.content.filesystem_kind() != after.content.filesystem_kind())
    return false;
  if (!before.content.filesystem() || !after.content.filesystem()) return false;
  if (before.content.size != after.content.size) return false;
  Findings findings;
  after.content.on_disk()->audit(AuditScope::full, {}, findings, silent);
  return findings.clean() && tree_of(before.content) == tree_of(after.content);
}

bool is_in(const Layer& place, std::size_t disk, std::uint64_t at) {
  return place.disk == disk && at >= place.offset.value() &&
         at - place.offset.value() < place.size.value();
}

// All filesystems that a byte of a disk may belong to hold the same.
bool same_around(const Guest& before, const Guest& after, std::size_t disk, std::uint64_t at) {
  const auto old_places = before.layers();
  const auto new_places = after.layers();
  if (old_places.size() != new_places.size()) return false;
  bool any = false;
  bool in_group = false;
  for (std::size_t i = 0; i < old_places.size(); ++i) {
    const Layer& place = *old_places[i];
    if (!place.volume && is_in(place, disk, at)) {
      if (place.content.kind == ContentKind::physical_volume)
        in_group = true;
      else if (holds_files(place.content) && same_filesystem(place, *new_places[i]))
        any = true;
      else if (place.content.kind != ContentKind::logical_partitions)
        return false;
    }
    if (place.volume && in_group && holds_files(place.content)) {
      if (!same_filesystem(place, *new_places[i])) return false;
      any = true;
    }
  }
  return any;
}

// Whether may_differ(disk, offset) says so of each stretch in use that differs; sizes must not.
template <class MayDiffer>
bool for_each_difference_in_use(const OpenGuest& was, const OpenGuest& now, MayDiffer may_differ) {
  constexpr std::uint64_t most = 1U << 20;
  for (std::size_t i = 0; i < was.guest->disks().size(); ++i) {
    Store& old_disk = was.guest->disks()[i].container->disk();
    Store& new_disk = now.guest->disks()[i].container->disk();
    if (old_disk.size() != new_disk.size()) return false;
    const Unused unused = find_unused(*was.guest, i);
    for (std::uint64_t at = 0; at < old_disk.size();) {
      auto [range, reach] = unused.stretch(at, std::min(most, old_disk.size() - at));
      const Range old_run = old_disk.map(at, reach);
      const Range new_run = new_disk.map(at, old_run.length);
      reach = new_run.length;
      if (range == nullptr && !(old_run.zero && new_run.zero)) {
        const Buffer old_bytes = read_buffer(old_disk, at, reach);
        const Buffer new_bytes = read_buffer(new_disk, at, reach);
        // Mostly they are the same, which is told quickly.
        if (old_bytes != new_bytes)
          for (std::uint64_t k = 0; k < reach; ++k)
            if (old_bytes[k] != new_bytes[k] && !may_differ(i, at + k)) return false;
      }
      at += reach;
    }
  }
  return true;
}

}  // namespace

void look_all_over(MemoryStore& place, Files files, const std::string& words) {
  const MemoryStore was(place, "was");
  const Content content = recognise_content(place);
  if (content.filesystem()) try {
      Findings findings;
      FilesystemOnDisk& fs = *content.on_disk();
      fs.audit(AuditScope::full, {}, findings, silent);
      fs.floor();
      fs.for_each_free([](std::uint64_t, std::uint64_t) {});
      fs.read_text("/etc/fstab", 4096);
      fs.plan_resize(Bytes(place.size() * 3));
      if (files == Files::asked && tree_sums(fs).empty() && fs.tree()) {
        EXPECT_FALSE(findings.clean()) << words << ": no file is there, and nothing was found";
      }
    } catch (const Error& error) {
      EXPECT_NE(error.status(), Status::internal) << words << ": " << error.what();
    }
  EXPECT_TRUE(place.same_content(was)) << words << ": looking has written";
}

void expect_sound_with(Store& place, const Sums& tree) {
  const Content content = recognise_content(place);
  ASSERT_TRUE(content.on_disk() != nullptr)
      << (content.blockers.empty() ? content.state : content.blockers.front().what());
  Findings findings;
  content.on_disk()->audit(AuditScope::full, {}, findings, silent);
  ASSERT_TRUE(findings.clean()) << findings.kept().front().where << ": "
                                << findings.kept().front().what;
  ASSERT_TRUE(tree_sums(*content.on_disk()) == tree);
}

Sums tree_sums(FilesystemOnDisk& fs) {
  Sums found;
  const auto tree = fs.tree();
  if (!tree) return found;
  std::vector<bool> seen(tree->node_end());
  const auto passed_over = tree->passed_over();
  const std::function<void(FileTree::Node, const std::string&)> visit = [&](FileTree::Node node,
                                                                            const std::string& at) {
    if (std::find(passed_over.begin(), passed_over.end(), node) != passed_over.end()) return;
    const FileTree::File file = tree->look(node);
    std::uint32_t sum = crc32c(file.facts) * 31 + crc32c(file.attributes);
    // However it is cut: what goes on is summed on.
    Buffer content;
    std::uint64_t end = 0;
    for (const FileTree::Extent& extent : file.content) {
      if (extent.offset != end) {
        sum = sum * 31 + crc32c(content) + static_cast<std::uint32_t>(extent.offset);
        content.clear();
      }
      end = extent.offset + extent.length;
      if (extent.kind != FileTree::Extent::Kind::data) continue;
      const Buffer part = read_buffer(fs.store(), extent.at, extent.length);
      content.insert(content.end(), part.begin(), part.end());
    }
    sum = sum * 31 + crc32c(content);
    found[at] = sum;
    if (!file.folder || seen[node]) return;
    seen[node] = true;
    for (const FileTree::Entry& entry : tree->entries(node))
      if (entry.name != "." && entry.name != "..") visit(entry.node, at + "/" + entry.name);
  };
  const auto roots = tree->roots();
  if (!roots.empty()) visit(roots.front().node, "");
  return found;
}

bool same_for_the_guest(Host& before, Host& after, const std::string& image, const Words& also) {
  Words paths = Words{image} + also;
  const OpenGuest was(before, paths);
  const OpenGuest now(after, paths);
  return for_each_difference_in_use(was, now, [&](std::size_t disk, std::uint64_t at) {
    return same_around(*was.guest, *now.guest, disk, at);
  });
}

bool same_where_used(Host& before, Host& after, const Words& images) {
  try {
    return for_each_difference_in_use(OpenGuest(before, images), OpenGuest(after, images),
                                      [](std::size_t, std::uint64_t) { return false; });
  } catch (const Error&) {
    return false;  // one of them cannot be opened
  }
}

std::string what_the_guest_finds(Host& host, const std::string& image) {
  return what_the_guests_disks_hold(host, {image});
}

std::string what_the_guests_disks_hold(Host& host, const Words& images) {
  const OpenGuest opened(host, images);
  std::string found;
  for (const Disk& disk : opened.guest->disks())
    found += fmt::format("disk of {}\n", disk.size().value());
  for (const Layer* place : opened.guest->layers()) {
    found += fmt::format("{} {} {} {}\n", opened.guest->name_of(*place), place->size.value(),
                         place->content.name, place->content.size.value_or(Bytes(0)).value());
    if (!holds_files(place->content) || !place->content.filesystem()) continue;
    for (const auto& [path, sum] : tree_of(place->content))
      found += fmt::format("{} {:x}\n", path, sum);
  }
  return found;
}

std::string checker_says(Host& host, const Words& images) {
  const OpenGuest opened(host, images);
  const TempFolder folder;
  std::string said;
  for (const Layer* place : opened.guest->layers()) {
    if (!holds_files(place->content) || !place->window) continue;
    const std::string image = folder / "fs";
    save(*place->window, image);
    if (place->content.filesystem_kind() == &ext::kind)
      said += check_ext(image);
    else if (place->content.name == "XFS")
      said += check_xfs(image);
    else if (place->content.name == "btrfs")
      said += check_btrfs(image);
    else
      said += account_ntfs(image);
  }
  return said;
}

}  // namespace jh::test

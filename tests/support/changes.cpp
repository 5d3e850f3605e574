#include "support/changes.h"

#include "core/change/carry_out.h"
#include "core/change/recast.h"
#include "core/compact/compact.h"
#include "core/container/fill.h"
#include "core/plan/grow.h"
#include "core/plan/shrink.h"
#include "support/containers.h"
#include "support/guest_writes.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

template <class Work>
void with_guest(FaultHost& host, Work work) {
  HostFileResolver resolver(host);
  std::vector<std::unique_ptr<Store>> files;
  std::vector<Guest::Image> disks;
  for (const std::string& path : {first_image, second_image}) {
    if (!host.exists(path)) continue;
    files.push_back(host.open(path, Access::read_only));
    disks.push_back({path, files.back().get(), false, &resolver});
  }
  work(Guest(disks));
}

void grow(FaultHost& host, const Guest& guest, const BeforeProof& before_proof) {
  GrowRequest request;
  for (const Disk& disk : guest.disks()) request.images.push_back(disk.path);
  request.disk_chosen = true;
  request.by = 40_MiB;
  if (guest.disks().size() > 1)
    request.gives = {parse_give("/scratch=16MiB"), parse_give("/=rest")};
  carry_out(host, guest, plan_growth(guest, request), request, silent, before_proof);
}

// The filesystem of a disk without partitions.
void grow_disk(FaultHost& host, const Guest& guest, const BeforeProof& before_proof) {
  GrowRequest request;
  request.images = {guest.disks()[0].path};
  request.disk_chosen = true;
  request.by = 40_MiB;
  request.gives = {parse_give("disk")};
  carry_out(host, guest, plan_growth(guest, request), request, silent, before_proof);
}

void shrink(FaultHost& host, const Guest& guest, const BeforeProof& before_proof) {
  ShrinkRequest request;
  for (const Disk& disk : guest.disks()) request.images.push_back(disk.path);
  request.disk_chosen = true;
  request.to_floor = true;
  request.allow_move = true;
  carry_out(host, guest, plan_shrink(guest, request), request, silent, before_proof);
}

void grow_with_moves(FaultHost& host, const Guest& guest, const std::vector<const char*>& gives,
                     const BeforeProof& before_proof) {
  GrowRequest request;
  for (const Disk& disk : guest.disks()) request.images.push_back(disk.path);
  request.by = 24_MiB;
  request.allow_move = true;
  for (const char* give : gives) request.gives.push_back(parse_give(give));
  carry_out(host, guest, plan_growth(guest, request), request, silent, before_proof);
}

// The root grows, a logical swap area and a filesystem behind it make room.
void make_room(FaultHost& host, const Guest& guest, const BeforeProof& before_proof) {
  grow_with_moves(host, guest, {"/"}, before_proof);
}

// A volume of one group; and one of another, for which the first one's partition is in the way.
void grow_two_groups(FaultHost& host, const Guest& guest, const BeforeProof& before_proof) {
  grow_with_moves(host, guest, {"/srv/rings=44MiB", "/"}, before_proof);
}

void compact(FaultHost& host, const Guest& guest, const BeforeProof&) {
  compact_in_place(host, guest, 0, false, Sharing::automatic, silent);
}

void keep_full(FaultHost& host, const Guest&, const BeforeProof&) {
  recast_in_place(host, first_image, Allocation::full, silent);
}

void add_disk(FaultHost& host, const Guest& guest, const BeforeProof& before_proof) {
  GrowRequest request;
  std::vector<Guest::Image> disks;
  for (const Disk& disk : guest.disks()) {
    request.images.push_back(disk.path);
    disks.push_back({disk.path, disk.file, false, disk.resolver});
  }
  request.add_disks = {{added_image, 64_MiB}};
  request.gives = {parse_give("/=rest")};
  MemoryStore blank((64_MiB).value(), added_image);
  disks.push_back({added_image, &blank, true});
  const Guest with_it(disks);
  carry_out(host, with_it, plan_growth(with_it, request), request, silent, before_proof);
}

MemoryStore sample(const std::string& name) {
  const TempFolder folder;
  const std::string path = folder / "disk";
  if (name != "full") {
    unpack_sample(name, path);
    return load(path);
  }
  make_ext(path, 24U << 20, {"-b", "1024", "-N", "800"});
  MemoryStore disk = load(path);
  const Guest guest({{path, &disk}});
  std::mt19937 random(9);
  for (const UnusedRange& range : find_unused(guest, 0).ranges) {
    Buffer noise(std::min<std::uint64_t>(range.end - range.start, 700'000));
    for (std::uint8_t& byte : noise) byte = static_cast<std::uint8_t>(random());
    disk.write(range.start, noise);
  }
  return disk;
}

MemoryStore snapshot_twice(MemoryStore& image) {
  const TempFolder folder;
  const std::string path = folder / "image";
  save(image, path);
  FileHost host(folder / "ledgers");
  for (const char* name : {"june", "july"}) {
    make_snapshot(path, name, 65536);
    EXPECT_TRUE(guest_writes_files(host, {path}, name, 200'000));
  }
  return load(path);
}

}  // namespace

void PrintTo(const GuestChange& change, std::ostream* out) { *out << change.name; }

const std::vector<GuestChange>& guest_changes() {
  static const std::vector<GuestChange> all{
      {"GrowMbr", {"heather"}, ImageFormat::raw, Allocation::full, grow},
      {"GrowQcow2", {"full"}, ImageFormat::qcow2, Allocation::sparse, grow},
      {"Shrink", {"full"}, ImageFormat::raw, Allocation::full, shrink},
      {"ShrinkVhdx", {"full"}, ImageFormat::vhdx, Allocation::sparse, shrink},
      {"Move", {"mbr-extended"}, ImageFormat::raw, Allocation::full, shrink},
      {"MakeRoom", {"mbr-extended"}, ImageFormat::raw, Allocation::full, make_room},
      {"TwoGroups", {"two-groups"}, ImageFormat::qcow2, Allocation::sparse, grow_two_groups},
      {"GrowNtfs", {"ntfs-desk"}, ImageFormat::vhdx, Allocation::sparse, grow_disk},
      {"ShrinkNtfs", {"ntfs-512"}, ImageFormat::raw, Allocation::full, shrink},
      {"CompactQcow2", {"full"}, ImageFormat::qcow2, Allocation::sparse, compact},
      {"CompactVdi", {"full"}, ImageFormat::vdi, Allocation::sparse, compact},
      {"RecastVdi", {"full"}, ImageFormat::vdi, Allocation::sparse, keep_full},
      {"TwoDisks", {"two-disk-a", "two-disk-b"}, ImageFormat::raw, Allocation::full, grow},
      {"AddDisk", {"two-disk-a", "two-disk-b"}, ImageFormat::raw, Allocation::full, add_disk},
      {"GrowSnapshots", {"full"}, ImageFormat::qcow2, Allocation::sparse, grow, true},
      {"CompactSnapshots", {"full"}, ImageFormat::qcow2, Allocation::sparse, compact, true}};
  return all;
}

Contents images_of(const GuestChange& change) {
  Contents old;
  for (std::size_t i = 0; i < change.samples.size(); ++i) {
    const std::string path = i == 0 ? first_image : second_image;
    MemoryStore disk = sample(change.samples[i]);
    if (change.format == ImageFormat::raw) {
      old.emplace(path, MemoryStore(disk, path));
      continue;
    }
    const auto from = open_container(disk);
    NewContainer wanted;
    wanted.format = change.format;
    wanted.allocation = change.allocation;
    wanted.disk_size = Bytes(disk.size());
    auto made = new_image(wanted);
    fill_disk(*from, *made->container, silent);
    auto& image = dynamic_cast<MemoryStore&>(*made->main);
    old.emplace(path, change.with_snapshots ? MemoryStore(snapshot_twice(image), path)
                                            : MemoryStore(image, path));
  }
  return old;
}

void put(FaultHost& host, const Contents& contents) {
  for (const auto& [path, content] : contents) host.put(path, content);
}

void carry_out_on(FaultHost& host, const GuestChange& change, const BeforeProof& before_proof) {
  with_guest(host, [&](const Guest& guest) { change.work(host, guest, before_proof); });
}

Contents contents_of(const FaultHost& host, bool with_ledgers) {
  Contents all;
  for (const std::string& name : host.names())
    if (with_ledgers || name.find(".juneheath") == std::string::npos)
      all.emplace(name, MemoryStore(host.content(name), name));
  return all;
}

bool same(const Contents& a, const Contents& b) {
  return a.size() == b.size() &&
         std::equal(a.begin(), a.end(), b.begin(), [](const auto& left, const auto& right) {
           return left.first == right.first && left.second.same_content(right.second);
         });
}

Words images_on(FaultHost& host) {
  Words paths;
  for (const std::string& path : {first_image, second_image, added_image})
    if (host.exists(path) && host.content(path).size() != 0) paths.push_back(path);
  return paths;
}

std::vector<SnapshotSeen> snapshots_on(FaultHost& host, const std::string& image) {
  const TempFolder folder;
  try {
    save(*host.open(image, Access::read_write), folder / "image");
    return read_snapshots(folder / "image");
  } catch (const std::exception&) {
    return {};
  }
}

std::string files_of(FaultHost& host) {
  std::string found;
  try {
    std::istringstream lines(what_the_guests_disks_hold(host, images_on(host)));
    for (std::string line; std::getline(lines, line);)
      if (line.starts_with('/')) found += line + "\n";
  } catch (const Error&) {
    return {};
  }
  return found;
}

}  // namespace jh::test

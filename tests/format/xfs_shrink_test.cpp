// XFS made smaller: to the floor, a block above it, and sizes between; judged by the system's
// checker, the kernel, and our own audit.
#include "core/fs/xfs/attributes.h"
#include "core/fs/xfs/content_format.h"
#include "core/fs/xfs/group.h"
#include "core/fs/xfs/log.h"
#include "core/guest/content.h"
#include "support/same_guest.h"
#include "support/sequences.h"
#include "support/test.h"
#include "support/xfs_guest.h"

namespace jh::test {
namespace {

std::uint64_t floor_of(const std::string& image) {
  MemoryStore place = load(image);
  return recognise_content(place).filesystem()->floor().size.value();
}

std::uint64_t block_of(const std::string& image) {
  MemoryStore place = load(image);
  return xfs::Geometry(place).block_size();
}

std::vector<XfsMade> shrink_makes() {
  std::vector<XfsMade> all = xfs_makes();
  const std::vector<XfsMade> more{{"LargestBlocks", {"-b", "size=65536"}},
                                  {"TwoGroups", {"-d", "agcount=2", "-m", "rmapbt=1"}},
                                  {"SevenGroups", {"-d", "agcount=7"}},
                                  {"SixtyFourGroups", {"-d", "agcount=64"}, 4600 * mib},
                                  {"LogAtTheEnd", {"-l", "agnum=3", "-m", "rmapbt=1"}},
                                  {"LogInTheFirst", {"-l", "agnum=0"}}};
  all.insert(all.end(), more.begin(), more.end());
  return all;
}

class XfsShrink : public testing::TestWithParam<XfsMade> {
 protected:
  void SetUp() override {
    if (!can_mount()) GTEST_SKIP() << "no mounts here";
  }
  void shrink(const std::string& to) const { succeeds({"shrink", image_, "--to", to, "--yes"}); }
  void expect_sound(const std::string& tree) const {
    EXPECT_EQ(check_xfs(image_), "");
    expect_status(0, {"audit", image_});
    EXPECT_EQ(mounted_tree(image_), tree);
  }
  // Every name is changed and every file removed, by its kernel: it holds each against what it has
  // noted elsewhere.
  void expect_all_can_go() const {
    {
      const Mounted mounted(image_, 0, 0, /*writable=*/true);
      std::vector<files::path> paths;
      for (const auto& entry : files::recursive_directory_iterator(mounted.path()))
        paths.push_back(entry.path());
      std::error_code error;
      for (auto path = paths.rbegin(); path != paths.rend() && !error; ++path)
        files::rename(*path, path->string().substr(0, path->string().size() - 1) + "~", error);
      ASSERT_FALSE(error) << error.message();
      for (const auto& entry : files::directory_iterator(mounted.path()))
        if (!error) files::remove_all(entry.path(), error);
      ASSERT_FALSE(error) << error.message();
    }
    EXPECT_EQ(check_xfs(image_), "");
    expect_status(0, {"audit", image_});
  }

  const TempFolder folder_;
  const std::string image_ = folder_ / "place.img";
};

TEST_P(XfsShrink, ToTheFloorAndAboveAndTheSystemIsContent) {
  SKIP_UNLESS_ITS_TURN(3)
  std::mt19937_64 random{seed_of_run()};
  const std::uint64_t full = std::max(GetParam().least, (620 + random() % 200) * mib);
  make_xfs(image_, full, GetParam().options, false);
  live_in_xfs(image_, random);
  const std::string tree = mounted_tree(image_);
  const std::uint64_t floor = floor_of(image_);
  const std::uint64_t block = block_of(image_);
  ASSERT_LT(floor, full);
  const std::string kept = folder_ / "kept.img";
  run({"cp", "--sparse=always", image_, kept});
  for (const std::uint64_t size : {floor, floor + block, floor + random() % (full - floor)}) {
    SCOPED_TRACE(fmt::format("{} from {} to {} (floor {})", GetParam().name, full, size, floor));
    run({"cp", "--sparse=always", kept, image_});
    shrink(std::to_string(round_up(size, 512)));
    EXPECT_LE(files::file_size(image_), round_up(size, 512));
    expect_sound(tree);
    succeeds({"undo", image_, "--yes"});
    EXPECT_EQ(run({"cmp", image_, kept}).status, 0) << "not as it was";
    shrink(std::to_string(round_up(size, 512)));
    come_and_go(image_, 200);
    EXPECT_EQ(check_xfs(image_), "");
    const std::string now = mounted_tree(image_);  // the root folder has another time
    succeeds({"grow", image_, "--to", std::to_string(full), "--yes"});
    expect_sound(now);
  }
  expect_all_can_go();
  run({"cp", "--sparse=always", kept, image_});
  expect_status(3,
                {"shrink", image_, "--to", std::to_string(round_up(floor, 512) - block), "--yes"});
  EXPECT_EQ(run({"cmp", image_, kept}).status, 0);
}

INSTANTIATE_TEST_SUITE_P(Makes, XfsShrink, testing::ValuesIn(shrink_makes()), by_name);

// In memory: smaller and larger, again and again, by any amount. The files stay, the audit is
// content, and now and then the checker. JUNEHEATH_SEQUENCES: how many.
TEST(XfsShrinking, AnySequenceKeepsTheFiles) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  int smaller = 0;
  const auto make = [](const std::string& image, std::mt19937_64& random) {
    make_xfs(image, (600 + random() % 200) * mib, any_xfs_options(random), false);
    live_in_xfs(image, random);
  };
  const auto change = [&](MemoryStore& place, std::mt19937_64& random) {
    for (int step = 0; step < 3; ++step) {
      const auto fs = recognise_content(place).filesystem_kind()->open_to_change(place);
      const std::uint64_t size = fs->size().value();
      std::uint64_t to = size;
      if (step == 1 && random() % 2 == 0) {
        to += random() % (400 * mib);
        place.resize(to);
      } else {
        const std::uint64_t floor = fs->floor().size.value();
        to = floor + (random() % 4 == 0 ? random() % 4 * 4096 : random() % (size - floor + 1));
        to = std::min(to, size);
      }
      const ResizePlan plan = fs->plan_resize(Bytes(to));
      if (plan.changes()) fs->resize(plan.to, silent);
      if (plan.to.value() < size) {
        place.resize(plan.to.value());
        ++smaller;
      }
    }
  };
  const int sequences = run_sequences({300, 60, 20, make, change, check_xfs});
  EXPECT_GT(smaller, sequences);
}

// Full to 99 of 100, as its kernel counts when nothing is set aside for files that grow; and then
// with a third of it gone, everywhere.
TEST(XfsShrinking, WhatIsAlmostFullGetsSmallerToo) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  std::mt19937_64 random{seed_of_run()};
  const TempFolder folder;
  const std::string image =
      make_xfs(folder / "place.img", 400 * mib, {"-m", "rmapbt=1", "-d", "agcount=5"}, false);
  Words names;
  const auto is_full = [](const std::string& path) {
    const auto space = files::space(path);
    return space.available < space.capacity / 100;
  };
  for (bool full = false; !full;) {
    const Mounted mounted(image, 0, 0, /*writable=*/true);
    full = is_full(mounted.path());
    while (!is_full(mounted.path())) {
      const std::string name = fmt::format("/moor-{}/ring-{}", names.size() % 30, names.size());
      files::create_directories(mounted.path() + name.substr(0, name.rfind('/')));
      write_file(mounted.path() + name, std::string(1 + random() % 300000, 'r'));
      names.push_back(name);
    }
  }
  for (const bool thinned : {false, true}) {
    SCOPED_TRACE(thinned);
    if (thinned) {
      succeeds({"undo", image, "--yes"});
      const Mounted mounted(image, 0, 0, /*writable=*/true);
      for (const std::string& name : names)
        if (random() % 3 == 0) files::remove(mounted.path() + name);
    }
    const std::string tree = mounted_tree(image);
    const std::uint64_t floor = floor_of(image);
    EXPECT_GT(floor, thinned ? 220 * mib : 360 * mib);
    ASSERT_LT(floor, thinned ? 340 * mib : 400 * mib);
    expect_status(3, {"shrink", image, "--to", std::to_string(floor - 4096), "--yes"},
                  {"cannot become as small as"});
    succeeds({"shrink", image, "--to", "floor", "--yes"});
    EXPECT_EQ(check_xfs(image), "");
    expect_status(0, {"audit", image});
    EXPECT_EQ(mounted_tree(image), tree);
  }
}

// Files that were deleted while they were open wait for the guest: their inodes must not move.
TEST(XfsShrinking, WaitsForTheGuestToRemoveWhatItDeleted) {
  const TempFolder folder;
  const std::string image = make_xfs(folder / "place.img", 400 * mib, {}, false);
  {
    MemoryStore place = load(image);
    const xfs::Geometry geometry(place);
    const std::uint64_t at = geometry.header_at(1, 2);
    Buffer sector = read_buffer(place, at, geometry.sector_size());
    auto header = parse_as<xfs::InodeHeader>(sector, 0);
    header.unlinked[5] = 128;
    put_at(sector, 0, header);
    xfs::set_checksum(sector, offsetof(xfs::InodeHeader, checksum));
    place.write(at, sector);
    xfs::Log(place, geometry).close(/*ends=*/false);
    save(place, image);
  }
  const MemoryStore before = load(image);
  expect_status(3, {"shrink", image, "--to", "floor", "--yes"}, {"deleted while open"});
  EXPECT_TRUE(load(image).same_content(before));
}

// A guest with a reverse map that lies, or any other damage: found before anything moves.
TEST(XfsShrinking, DamageIsFoundBeforeAnythingMoves) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  std::mt19937_64 random{seed_of_run()};
  const TempFolder folder;
  const std::string image =
      make_xfs(folder / "place.img", 360 * mib, {"-m", "rmapbt=1", "-d", "agcount=5"}, false);
  live_in_xfs(image, random);
  const MemoryStore whole = load(image);
  int refused = 0;
  for (int i = 0; i < 10; ++i) {
    MemoryStore place(whole, "place");
    const xfs::Geometry geometry(place);
    const auto group = static_cast<std::uint32_t>(random() % geometry.groups());
    const xfs::Group headers(place, geometry, group);
    const auto tree = xfs::all_trees[random() % xfs::all_trees.size()];
    const std::uint64_t at = geometry.block_at(group, headers.root_of(tree).block);
    Buffer block = read_buffer(place, at, geometry.block_size());
    if (parse_as<xfs::TreeHeader>(block, 0).records.value() == 0) continue;
    block[sizeof(xfs::TreeHeader) + random() % 8] ^= static_cast<std::uint8_t>(1U << random() % 8);
    xfs::set_checksum(block, offsetof(xfs::TreeHeader, checksum));
    place.write(at, block);
    save(place, image);
    if (check_xfs(image).empty()) continue;
    SCOPED_TRACE(fmt::format("group {}, tree of {}", group, xfs::tree_name(tree)));
    const ProgramResult outcome = juneheath({"shrink", image, "--to", "floor", "--yes"});
    EXPECT_TRUE(outcome.status == 3 || outcome.status == 4) << outcome.status << outcome.err;
    EXPECT_TRUE(load(image).same_content(place));
    ++refused;
  }
  EXPECT_GT(refused, 1);
}

// An inode that says another folder has its name: the kernel says it too, and nothing moves.
TEST(XfsShrinking, ParentsThatLieAreDamage) {
  if (!can_mount() || !kernel_knows_parents()) GTEST_SKIP() << "no such mounts here";
  std::mt19937_64 random{seed_of_run()};
  const TempFolder folder;
  const std::string image = make_xfs(folder / "place.img", 400 * mib, {with_parents}, false);
  live_in_xfs(image, random);
  ASSERT_EQ(check_parents(image), "");
  for (const char* path : {"/linked-2", "/linked-400"}) {
    SCOPED_TRACE(path);
    MemoryStore place = load(image);
    MemoryStore whole(place, "whole");
    const xfs::Geometry geometry(place);
    const xfs::InodeFile file(place, geometry, *xfs::find_path(place, geometry, path));
    std::uint64_t at = geometry.inode_at(file.number());
    Buffer bytes = file.bytes();
    std::size_t checksum = offsetof(xfs::Inode, checksum);
    std::size_t parent = 0;
    const std::vector<xfs::FileExtent> extents = file.extents(/*attributes=*/true);
    if (extents.empty()) {
      const std::size_t begin = bytes.size() - file.attribute_fork().size();
      xfs::for_each_short_attribute(file.attribute_fork(), [&](const xfs::Attribute& each) {
        if (each.is_parent()) parent = begin + each.value;
      });
    } else {  // the second: one in any of its leaves
      std::uint64_t leaf_number = 0;
      xfs::for_each_attribute_in_leaves(
          geometry, file, [&](std::uint64_t number, ConstByteSpan) { leaf_number = number; },
          [&](const xfs::Attribute& each, ConstByteSpan leaf) {
            if (!each.is_parent()) return;
            parent = each.value;
            bytes.assign(leaf.begin(), leaf.end());
            for (const xfs::FileExtent& extent : extents)
              if (leaf_number - extent.offset < extent.count)
                at = geometry.block_at(extent.block) +
                     (leaf_number - extent.offset) * geometry.block_size();
          });
      checksum = offsetof(xfs::IndexHeader, checksum);
    }
    ASSERT_NE(parent, 0U);
    auto lie = parse_as<xfs::ParentPointer>(bytes, parent);
    lie.generation = lie.generation.value() + 1;  // no part of the hash
    put_at(bytes, parent, lie);
    xfs::set_checksum(bytes, checksum);
    place.write(at, bytes);
    save(place, image);
    expect_said({"audit", image}, {"names other folders, or other names"});
    expect_status(4, {"shrink", image, "--to", "floor", "--yes"});
    EXPECT_TRUE(load(image).same_content(place));
    lie.folder = geometry.superblock().root_inode.value() + 1;
    put_at(bytes, parent, lie);
    xfs::set_checksum(bytes, checksum);
    place.write(at, bytes);
    save(place, image);
    EXPECT_NE(check_parents(image), "");
    expect_status(4, {"shrink", image, "--to", "floor", "--yes"});
    save(whole, image);
  }
}

}  // namespace
}  // namespace jh::test

// XFS against its system: what its maker makes grows, and its checker and its kernel are content.
#include "core/fs/xfs/content_format.h"
#include "core/fs/xfs/format.h"
#include "core/fs/xfs/geometry.h"
#include "core/fs/xfs/inode.h"
#include "core/fs/xfs/log.h"
#include "core/fs/xfs/rebuild.h"
#include "core/guest/content.h"
#include "support/same_guest.h"
#include "support/sequences.h"
#include "support/test.h"
#include "support/xfs_guest.h"

namespace jh::test {
namespace {

class XfsMatrix : public testing::TestWithParam<XfsMade> {};

TEST_P(XfsMatrix, GrowsAndTheSystemIsContent) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  SKIP_UNLESS_ITS_TURN(3)
  std::mt19937_64 random{seed_of_run()};
  const TempFolder folder;
  const std::string image = folder / "place.img";
  const std::uint64_t old_size = (560 + random() % 200) * mib;
  make_xfs(image, old_size, GetParam().options);
  std::string tree = mounted_tree(image);
  EXPECT_FALSE(tree.empty());
  expect_status(0, {"audit", image});
  // Twice: what was added must be able to grow, too; the second time to a hundred times its size.
  for (const std::uint64_t size : {old_size + 1 + random() % (old_size * 2), old_size * 100}) {
    SCOPED_TRACE(fmt::format("{} from {} to {} bytes", GetParam().name, old_size, size));
    succeeds({"grow", image, "--to", std::to_string(size), "--yes"});
    EXPECT_EQ(check_xfs(image), "");
    expect_status(0, {"audit", image});
    EXPECT_EQ(mounted_tree(image), tree);
    EXPECT_GE(come_and_go(image, 200) + 80 * mib + size / 50, size) << "the kernel sees less";
    EXPECT_EQ(check_xfs(image), "");
    tree = mounted_tree(image);  // the root folder has another time now
  }
}

INSTANTIATE_TEST_SUITE_P(Makes, XfsMatrix, testing::ValuesIn(xfs_makes()), by_name);

// Any combination of features, a guest that lived in it: the audit finds it sound, it grows, and
// the system is content. JUNEHEATH_FULL: a hundred of them.
TEST(Xfs, AnyCombinationOfFeaturesGrows) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const unsigned seed = seed_of_run();
  const int rounds = takes_all() ? 100 : 2;
  const TempFolder folder;
  const std::string image = folder / "place.img";
  int made = 0;
  for (int i = 0; i < rounds; ++i) {
    std::mt19937_64 random{seed + static_cast<unsigned>(i)};
    const Words options = any_xfs_options(random);
    SCOPED_TRACE(fmt::format("seed {}: {}", seed + i, fmt::join(options, " ")));
    const std::uint64_t size = (600 + random() % 200) * mib;
    files::remove(image);
    files::remove(image + ".juneheath");
    make_xfs(image, size, options, false);
    live_in_xfs(image, random);
    ASSERT_EQ(check_xfs(image), "");
    succeeds({"audit", image});
    const std::string tree = mounted_tree(image);
    succeeds({"grow", image, "--by", std::to_string(1 + random() % (3 * size)), "--yes"});
    ASSERT_EQ(check_xfs(image), "");
    succeeds({"audit", image});
    ASSERT_EQ(mounted_tree(image), tree);
    ++made;
  }
  EXPECT_EQ(made, rounds);
}

// In memory: larger, again and again, by any amount. The files stay, the audit is content, and now
// and then the checker.
TEST(Xfs, AnySequenceOfGrowthsKeepsTheFiles) {
  const auto make = [](const std::string& image, std::mt19937_64& random) {
    make_xfs(image, (560 + random() % 200) * mib,
             xfs_makes()[random() % xfs_makes().size()].options);
  };
  const auto change = [&](MemoryStore& place, std::mt19937_64& random) {
    for (int step = 0; step < 4; ++step) {
      // Now a few blocks, now several times as much.
      const std::uint64_t most = random() % 2 == 0 ? 3 * mib : place.size() * (1 + random() % 5);
      place.resize(place.size() + 512 + random() % most);
      const auto fs = recognise_content(place).filesystem_kind()->open_to_change(place);
      const ResizePlan plan = fs->plan_resize(fs->usable(Bytes(place.size())));
      if (plan.changes()) fs->resize(plan.to, silent);
      if (place.size() > (1ULL << 40)) break;
    }
  };
  run_sequences({300, 50, 25, make, change, check_xfs});
}

// The trees of the last group are full, and split.
TEST(Xfs, FullTreesOfTheLastGroupGrow) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const TempFolder folder;
  const std::string image =
      make_xfs(folder / "place.img", 320 * mib, {"-b", "size=1024", "-d", "agcount=2"});
  {
    // Every other small file goes: thousands of free extents.
    const Mounted mounted(image, 0, 0, /*writable=*/true);
    // In the shell itself: a program for each of them would take a minute.
    run({"bash", "-c",
         "cd '" + mounted.path() +
             "' && for f in $(seq 0 39); do mkdir d$f; done && for i in $(seq 9000); do printf "
             "'%01000d' $i > "
             "d$((i % 40))/f$i; done; sync -f .; rm -f d*/f*[13579]; fallocate -l 100M big || "
             "true"});
  }
  const std::string tree = mounted_tree(image);
  for (const std::uint64_t size : {321 * mib, 340 * mib, 2000 * mib}) {
    succeeds({"grow", image, "--to", std::to_string(size), "--yes"});
    EXPECT_EQ(check_xfs(image), "") << size;
    expect_status(0, {"audit", image});
    EXPECT_EQ(mounted_tree(image), tree);
  }
}

// A tree that has to become wider, and higher: blocks come from the free list, and it reads as it
// was written.
TEST(Xfs, ATreeGetsBlocksFromTheFreeList) {
  MemoryStore place = xfs_image(304 * mib, {"-b", "size=1024"}, false);
  const xfs::Geometry geometry(place);
  const xfs::Group group(place, geometry, 1);
  const std::size_t most = xfs::most_records(geometry, xfs::Tree::by_block);
  for (const std::size_t records : {std::size_t{1}, most, most + 1, 3 * most}) {
    MemoryStore changed(place, "changed");
    std::vector<std::uint32_t> ready = group.free_list();
    const std::size_t listed = ready.size();
    std::vector<xfs::FreeExtent> extents;
    for (std::uint32_t i = 0; i < records; ++i)
      extents.push_back({Be32(100 + 3 * i), Be32(1 + i % 2)});
    xfs::FreeTree tree(changed, geometry, group, xfs::Tree::by_block);
    if (listed < 4 && records > most) GTEST_SKIP() << "a short free list";
    ASSERT_TRUE(tree.make_room(records, ready)) << records;
    EXPECT_EQ(listed - ready.size(), tree.added());
    EXPECT_EQ(tree.added(),
              records <= most ? 0 : (records + most - 1) / most);  // leaves, and a root
    EXPECT_EQ(tree.height(), records <= most ? 1U : 2U);
    tree.write(extents);
    Buffer sector = read_buffer(changed, geometry.header_at(1, 1), geometry.sector_size());
    auto header = parse_as<xfs::FreeSpaceHeader>(sector, 0);
    header.roots[0] = tree.root();
    header.levels[0] = tree.height();
    put_at(sector, 0, header);
    xfs::set_checksum(sector, offsetof(xfs::FreeSpaceHeader, checksum));
    changed.write(geometry.header_at(1, 1), sector);
    const auto read = xfs::Group(changed, geometry, 1).free_extents();
    ASSERT_EQ(read.size(), records);
    for (std::size_t i = 0; i < records; ++i) {
      EXPECT_EQ(read[i].start.value(), extents[i].start.value());
      EXPECT_EQ(read[i].count.value(), extents[i].count.value());
    }
  }
  // Where nothing is left, it says so.
  std::vector<std::uint32_t> none;
  xfs::FreeTree tree(place, geometry, group, xfs::Tree::by_block);
  EXPECT_FALSE(tree.make_room(most + 1, none));
}

// What the system's checker finds our audit finds, in metadata that both read.
TEST(Xfs, TheAuditAgreesWithTheChecker) {
  const auto seed = seed_of_run();
  fmt::print("  seed {}\n", seed);
  std::mt19937 random{seed};
  MemoryStore whole = xfs_image(304 * mib, {"-m", "rmapbt=1"});
  const xfs::Geometry geometry(whole);
  int found_by_both = 0;
  const int rounds = inputs_of(25, 300);
  for (int i = 0; i < rounds; ++i) {
    // A byte of a header, or of a root of a tree, with its sum put right: only what it says is
    // wrong.
    MemoryStore place(whole, "place");
    const auto group = static_cast<std::uint32_t>(random() % geometry.groups());
    const unsigned what = random() % 7;
    const std::uint64_t unit = what < 3 ? geometry.sector_size() : geometry.block_size();
    const std::uint64_t at = what < 3
                                 ? geometry.header_at(group, 1 + what % 2)
                                 : geometry.block_at(group, geometry.header_blocks() + what - 3);
    Buffer bytes = read_buffer(place, at, unit);
    const std::size_t sum = what < 3 ? (what % 2 == 0 ? offsetof(xfs::FreeSpaceHeader, checksum)
                                                      : offsetof(xfs::InodeHeader, checksum))
                                     : offsetof(xfs::TreeHeader, checksum);
    const std::size_t used = what < 3 ? 60 : 16;
    const std::size_t victim =
        what < 3 ? random() % used : sizeof(xfs::TreeHeader) + random() % used;
    bytes[victim] ^= static_cast<std::uint8_t>(1U << random() % 8);
    xfs::set_checksum(bytes, sum);
    place.write(at, bytes);
    const Verdicts both = verdicts_on(place, check_xfs);
    if (both.checker.empty()) continue;
    EXPECT_TRUE(both.found_here())
        << "group " << group << ", structure " << what << ", byte " << victim << "\n"
        << both.checker;
    found_by_both += both.found_here() ? 1 : 0;
  }
  EXPECT_GT(found_by_both, rounds / 4);
}

// Blocks of files: a bit of a folder's names, of its index, of its free room, of attributes and
// their values, of a link's text, of an inode, with its sum put right.
TEST(Xfs, TheAuditAgreesWithTheCheckerOnFiles) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const unsigned seed = seed_of_run();
  std::mt19937_64 random{seed};
  const TempFolder folder;
  const std::string image = make_xfs(folder / "place.img", 304 * mib, {"-m", "rmapbt=1"}, false);
  live_in_xfs(image, random);
  MemoryStore whole = load(image);
  const xfs::Geometry geometry(whole);
  struct Target {
    std::uint64_t at;
    std::size_t sum;
    std::size_t unit;
    std::string what;
  };
  std::map<std::string, std::vector<Target>> targets;
  const std::size_t block = geometry.block_size();
  const std::size_t inode_size = geometry.superblock().inode_size.value();
  for (std::uint32_t number = 0; number < geometry.groups(); ++number)
    xfs::Group(whole, geometry, number)
        .walk(xfs::Tree::inodes, [&](std::uint32_t, ConstByteSpan data, std::size_t records) {
          for (std::size_t i = 0; i < records * 64; ++i) {
            const auto chunk = parse_as<xfs::InodeChunk>(data, i / 64 * sizeof(xfs::InodeChunk));
            if ((chunk.hole_mask.value() >> (i % 64 / 4) & 1) != 0 ||
                (chunk.free.value() >> (i % 64) & 1) != 0)
              continue;
            const std::uint64_t inode =
                (std::uint64_t{number} << (geometry.superblock().group_blocks_log +
                                           geometry.superblock().inodes_per_block_log)) |
                (chunk.first.value() + i % 64);
            const xfs::InodeFile file(whole, geometry, inode);
            const std::uint64_t at =
                geometry.block_at(inode >> geometry.superblock().inodes_per_block_log) +
                (inode & ((1U << geometry.superblock().inodes_per_block_log) - 1)) * inode_size;
            targets[file.is_folder() ? "folder"
                    : file.is_link() ? "link"
                                     : "file"]
                .push_back({at, offsetof(xfs::Inode, checksum), inode_size,
                            fmt::format("inode {}", inode)});
            for (const bool attributes : {false, true}) {
              if (!attributes && file.is_file()) continue;
              for (const xfs::FileExtent& extent : file.extents(attributes))
                for (std::uint64_t k = 0; k < extent.count; ++k) {
                  const std::uint64_t place = geometry.block_at(extent.block + k);
                  const std::uint32_t magic = read_as<Be32>(whole, place).value();
                  const bool text = magic == xfs::block_magic::remote_value ||
                                    magic == xfs::block_magic::link_text;
                  const bool names = magic == xfs::one_block_magic ||
                                     magic == xfs::data_block_magic ||
                                     magic == xfs::block_magic::free_index;
                  const std::string kind =
                      text || names
                          ? fmt::format("{:08x}", magic)
                          : fmt::format("index {:04x}", read_as<Be16>(whole, place + 8).value());
                  targets[kind].push_back(
                      {place,
                       text    ? offsetof(xfs::TextHeader, checksum)
                       : names ? offsetof(xfs::DirectoryHeader, checksum)
                               : offsetof(xfs::IndexHeader, checksum),
                       block, fmt::format("inode {} block {}", inode, extent.offset + k)});
                }
            }
          }
        });
  EXPECT_GE(targets.size(), 10U);
  const int rounds = inputs_of(25, 300);
  int both = 0, ours = 0, theirs = 0;
  const auto flip = [&](const Target& target, std::size_t byte, std::uint8_t bits,
                        const std::string& kind) {
    MemoryStore place(whole, "place");
    Buffer bytes = read_buffer(place, target.at, target.unit);
    bytes[byte] ^= bits;
    xfs::set_checksum(bytes, target.sum);
    place.write(target.at, bytes);
    const auto [checker, audit] = verdicts_on(place, check_xfs);
    const std::string what = fmt::format("{} ({}), byte {}", target.what, kind, byte);
    if (!checker.empty() && audit.status != 4)
      fmt::print("  only the checker: {}\n{}\n", what, checker);
    both += !checker.empty() && audit.status == 4;
    ours += checker.empty() && audit.status == 4;
    theirs += !checker.empty() && audit.status == 0;
    if (takes_all() && rounds <= 300 && checker.empty() && audit.status == 4)
      fmt::print("  only ours: {}: {}\n", what, audit.out.substr(0, 400));
  };
  // An extent that lies elsewhere in the file than the reverse map says; a hint that is not there.
  const auto in_extents = [&](const Target& target) {
    const auto core = read_as<xfs::Inode>(whole, target.at);
    return core.format == xfs::fork::extents && core.extents.value() != 0 &&
           (core.flags.value() & xfs::extent_hint_flag) == 0;
  };
  const auto& plain = targets["file"];
  const auto file = std::find_if(plain.begin(), plain.end(), in_extents);
  ASSERT_NE(file, plain.end());
  flip(*file, sizeof(xfs::Inode) + 6, 0x40, "extent");
  flip(*file, offsetof(xfs::Inode, flags), xfs::extent_hint_flag >> 8, "hint");
  ASSERT_EQ(both, 2);
  for (int i = 0; i < rounds; ++i) {
    auto kind = targets.begin();
    std::advance(kind, random() % targets.size());
    const Target& target = kind->second[random() % kind->second.size()];
    const Buffer bytes = read_buffer(whole, target.at, target.unit);
    // Where something stands: an index has most of its bytes empty.
    std::size_t victim = random() % target.unit;
    while (random() % 8 != 0 && bytes[victim] == 0) victim = random() % target.unit;
    flip(target, victim, static_cast<std::uint8_t>(1U << random() % 8), kind->first);
  }
  fmt::print("  {} found by both, {} by ours only, {} by the checker only\n", both, ours, theirs);
  // Fields that nobody has thought of yet are told one by one; a run of all of them finds none.
  EXPECT_LE(theirs, rounds < 300 ? 1 : 0);
  EXPECT_GT(both, 0);
}

// A filesystem with a reverse map; and below, the headers and roots of its first group.
struct FirstGroup {
  static MemoryStore made(const std::string& image) {
    make_xfs(image, 304 * mib, {"-m", "rmapbt=1"}, false);
    return load(image);
  }
  const TempFolder folder;
  const std::string image = folder / "place.img";
  MemoryStore whole = made(image);
};

struct Structure {
  const char* name;
  std::uint64_t at;
  std::size_t length;  // of what it says
  std::uint64_t unit;  // that its checksum covers
  std::size_t checksum;
  std::size_t sequence;
};

std::vector<Structure> structures_of(const xfs::Geometry& geometry) {
  const std::uint64_t sector = geometry.sector_size();
  const std::uint64_t block = geometry.block_size();
  std::vector<Structure> all{
      {"superblock", 0, sizeof(xfs::Superblock), sector, offsetof(xfs::Superblock, checksum),
       offsetof(xfs::Superblock, log_sequence)},
      {"free space", sector, sizeof(xfs::FreeSpaceHeader), sector,
       offsetof(xfs::FreeSpaceHeader, checksum), offsetof(xfs::FreeSpaceHeader, log_sequence)},
      {"inodes", 2 * sector, sizeof(xfs::InodeHeader), sector, offsetof(xfs::InodeHeader, checksum),
       offsetof(xfs::InodeHeader, log_sequence)},
      {"free list", 3 * sector, 80, sector, offsetof(xfs::FreeListHeader, checksum),
       offsetof(xfs::FreeListHeader, log_sequence)}};
  for (std::uint64_t i = 0; i < 6; ++i)
    all.push_back({"tree", (geometry.header_blocks() + i) * block, 120, block,
                   offsetof(xfs::TreeHeader, checksum), offsetof(xfs::TreeHeader, log_sequence)});
  const xfs::Superblock& super = geometry.superblock();
  all.push_back({"root inode",
                 geometry.block_at(super.root_inode.value() >> super.inodes_per_block_log), 200,
                 super.inode_size.value(), offsetof(xfs::Inode, checksum),
                 offsetof(xfs::Inode, log_sequence)});
  return all;
}

// Nothing is on disk before the log has it.
TEST(Xfs, WhatIsAheadOfItsLogIsDamage) {
  FirstGroup group;
  const std::string& image = group.image;
  const xfs::Geometry geometry(group.whole);
  for (const Structure& each : structures_of(geometry)) {
    SCOPED_TRACE(fmt::format("{} at {}", each.name, each.at));
    MemoryStore place(group.whole, "place");
    const auto put = [&](std::uint64_t sequence) {
      Buffer bytes = read_buffer(place, each.at, each.unit);
      put_at(bytes, each.sequence, Be64(sequence));
      xfs::set_checksum(bytes, each.checksum);
      place.write(each.at, bytes);
      save(place, image);
    };
    put(xfs::log_sequence(77, 8));
    const ProgramResult audit =
        expect_status(4, {"audit", image}, {"written by record 77:8 of the log"});
    expect_status(4, {"shrink", image, "--to", "floor", "--yes"});
    EXPECT_TRUE(load(image).same_content(place));
    const bool is_read_when_mounted = each.at < 3 * geometry.sector_size();
    if (is_read_when_mounted && can_mount()) {
      EXPECT_ANY_THROW(Mounted(image, 0, 0, true));
    }
    put(UINT64_MAX);  // was never in the log
    expect_status(0, {"audit", image});
  }
}

// Each byte of each header and root in turn: named or harmless, never a fall, a hang or a write.
TEST(Xfs, CorruptFieldsAreReported) {
  FirstGroup group;
  const xfs::Geometry geometry(group.whole);
  std::mt19937 random{seed_of_run()};
  const bool all = takes_all();
  for (const Structure& structure : structures_of(geometry))
    for (std::size_t byte = 0; byte < structure.length; ++byte)
      for (const std::uint8_t value : {0x00, 0x01, 0x7F, 0x80, 0xFF}) {
        if (!all && random() % 20 != 0) continue;
        MemoryStore place(group.whole, "place");
        Buffer bytes = read_buffer(place, structure.at, structure.unit);
        bytes[byte] = value;
        xfs::set_checksum(bytes, structure.checksum);
        place.write(structure.at, bytes);
        look_all_over(place, Files::left_out, fmt::format("{} + {}", structure.at, byte));
      }
}

// Counted by another kernel for users, groups and projects: our audit counts the same, and sees a
// record that says something else.
TEST(Xfs, QuotasAreCounted) {
  const TempFolder folder;
  const std::string image = unpack_sample("xfs-quota", folder / "quota.img");
  EXPECT_EQ(check_xfs(image), "");
  succeeds({"grow", image, "--by", "200MiB", "--give", "disk", "--yes"});
  EXPECT_EQ(check_xfs(image), "");
  expect_status(0, {"audit", image});
  MemoryStore whole = load(image);
  const xfs::Geometry geometry(whole);
  const xfs::Superblock& super = geometry.superblock();
  for (const std::uint64_t quota : {super.user_quota_inode.value(), super.group_quota_inode.value(),
                                    super.project_quota_inode.value()}) {
    MemoryStore place(whole, "place");
    const xfs::InodeFile file(place, geometry, quota);
    const std::uint64_t at = geometry.block_at(file.extents().front().block);
    Buffer record = read_buffer(place, at, sizeof(xfs::QuotaRecord));
    auto counts = parse_as<xfs::QuotaCountsText>(record, 0);
    EXPECT_GT(counts.inodes.value(), 0U);
    counts.blocks = counts.blocks.value() + 1;
    put_at(record, 0, counts);
    xfs::set_checksum(record, offsetof(xfs::QuotaRecord, checksum));
    place.write(at, record);
    Findings findings;
    recognise_content(place).on_disk()->audit(AuditScope::full, {}, findings, silent);
    ASSERT_EQ(findings.count(), 1U);
    EXPECT_THAT(findings.kept().front().where, HasSubstr("quota"));
  }
}

TEST(Xfs, IsReadByPathThroughLinksAndLargeFolders) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const TempFolder folder;
  const std::string image = make_xfs(folder / "place.img", 304 * mib, {}, false);
  {
    const Mounted mounted(image, 0, 0, /*writable=*/true);
    run({"bash", "-c",
         "cd '" + mounted.path() +
             "' && mkdir -p a/b many && echo found > a/b/file && ln -s b/file a/link && ln -s /a "
             "way && ln -s loop loop && "
             "for i in $(seq 3000); do echo $i > many/a-rather-long-name-of-a-bird-$i; done && "
             "head -c 300000 /dev/zero | tr '\\0' y > long && truncate -s 100000 hole && echo end "
             ">> hole"});
  }
  MemoryStore place = load(image);
  const Content content = recognise_content(place);
  ASSERT_TRUE(content.filesystem());
  const auto text = [&](const std::string& path) {
    return content.filesystem()->read_text(path, 1 << 20);
  };
  EXPECT_EQ(text("/a/b/file"), "found\n");
  EXPECT_EQ(text("/a/link"), "found\n");
  EXPECT_EQ(text("/way/link"), "found\n");
  EXPECT_EQ(text("/way/../a/./b/file"), "found\n");
  EXPECT_EQ(text("/many/a-rather-long-name-of-a-bird-2999"), "2999\n");
  EXPECT_EQ(text("/many/a-rather-long-name-of-a-bird-3001"), std::nullopt);
  EXPECT_EQ(text("/loop"), std::nullopt);
  EXPECT_EQ(text("/a"), std::nullopt);
  EXPECT_EQ(text("/long")->size(), 300000U);
  EXPECT_EQ(*text("/hole"), std::string(100000, '\0') + "end\n");
  EXPECT_EQ(audited(*content.on_disk()), "");
}

// What is damaged or not at rest is refused by name, and nothing is written; what only its guest
// knows is left to it, and the plan says so.
TEST(Xfs, WhatItLeavesAloneIsNamed) {
  const TempFolder folder;
  const std::string image = folder / "place.img";
  const auto fresh = [&](const Words& options) {
    files::remove(image);
    make_xfs(image, 304 * mib, options, false);
  };
  const auto expect_refused = [&](const std::string& words, int status) {
    expect_status(status, {"grow", image, "--by", "1GiB", "--give", "disk", "--yes"}, {words});
  };
  fresh({});
  poke(image, 219, std::string(1, '\x01'));
  expect_refused("the superblock's checksum is wrong", 4);
  fresh({"-m", "crc=0"});
  expect_status(0, {"grow", image, "--by", "1GiB", "--give", "disk", "--yes"}, {"Left for you"});
  expect_said({"survey", image}, {"XFS of version 4"});
  expect_said({"audit", image}, {"not looked into"});
  const ProgramResult smaller = juneheath({"shrink", image, "--to", "200MiB", "--yes"});
  EXPECT_NE(smaller.status, 0);
  EXPECT_TRUE(smaller.said("XFS")) << smaller.err;
}

}  // namespace
}  // namespace jh::test

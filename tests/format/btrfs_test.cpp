// btrfs against its system: what its maker makes and its kernel fills grows, shrinks and is
// compacted, and its checker and its kernel are content.
#include "core/fs/btrfs/layout.h"
#include "core/fs/btrfs/volume.h"
#include "core/guest/content.h"
#include "support/btrfs_guest.h"
#include "support/same_guest.h"
#include "support/sequences.h"
#include "support/test.h"

namespace jh::test {
namespace {

class BtrfsMatrix : public testing::TestWithParam<BtrfsMade> {
 protected:
  void expect_sound(const std::string& image) {
    EXPECT_EQ(check_btrfs(image), "");
    expect_status(0, {"audit", image});
  }
};

TEST_P(BtrfsMatrix, ChangesItsSizeAndTheSystemIsContent) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  SKIP_UNLESS_ITS_TURN(6)
  const unsigned seed = seed_of_run();
  SCOPED_TRACE(fmt::format("seed {}", seed));
  std::mt19937 random{seed};
  const TempFolder folder;
  const std::string image = folder / "place.img";
  const std::uint64_t size = (500 + random() % 500) * mib;
  make_lived_in_btrfs(image, size, GetParam(), random);
  expect_sound(image);
  const std::string tree = mounted_tree(image);
  EXPECT_FALSE(tree.empty());
  const auto change = [&](const Words& words) {
    succeeds(words);
    expect_sound(image);
    EXPECT_EQ(mounted_tree(image), tree) << words[0];
  };
  change({"grow", image, "--by", fmt::format("{}MiB", 1 + random() % 3000), "--give", "disk",
          "--yes"});
  change({"shrink", image, "--to", "floor", "--yes"});
  EXPECT_EQ(scrub(image), "");
  succeeds({"undo", image, "--yes"});
  expect_sound(image);
  EXPECT_EQ(mounted_tree(image), tree);
  change({"shrink", image, "--to", "floor", "--yes"});
  change({"grow", image, "--by", "400MiB", "--give", "disk", "--yes"});
  come_and_go(image, 200);
  expect_sound(image);
  const std::string later = mounted_tree(image);  // the top folder has another time now
  succeeds({"compact", image, "--yes"});
  expect_sound(image);
  EXPECT_EQ(mounted_tree(image), later);
  EXPECT_EQ(scrub(image), "");
}

INSTANTIATE_TEST_SUITE_P(Makes, BtrfsMatrix, testing::ValuesIn(btrfs_makes()), by_name);

// Snapshots have their content in common: it moves once, and is compared once.
TEST(Btrfs, WhatSnapshotsShareIsComparedOnce) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const TempFolder folder;
  std::vector<std::uint64_t> compared;
  for (const int snapshots : {0, 12}) {
    const std::string image = make_btrfs(folder / fmt::format("place-{}.img", snapshots), 600 * mib,
                                         {"-m", "single"}, false);
    {
      // What lies in front goes again, so that the floor moves what stays.
      const Mounted mounted(image, 0, 0, /*writable=*/true);
      run({"bash", "-c",
           fmt::format("cd '{0}' && head -c 200M /dev/urandom > a && sync && "
                       "head -c 40M /dev/urandom > b && sync && rm a && sync && "
                       "for i in $(seq {1}); do btrfs subvolume snapshot . s$i > /dev/null; done",
                       mounted.path(), snapshots)});
    }
    const ProgramResult shrunk = succeeds({"shrink", image, "--to", "floor", "--yes", "--verbose"});
    ASSERT_EQ(check_btrfs(image), "");
    const std::string words = "moved content read in both places, and the same";
    const std::string said = shrunk.out + shrunk.err;
    const std::size_t at = said.find(words);
    ASSERT_NE(at, std::string::npos) << said;
    std::cout << said.substr(at - 40, 160) << "\n";
    compared.push_back(
        std::stoull(said.substr(said.find_first_of("0123456789", at + words.size()))));
  }
  EXPECT_LT(compared[1], compared[0] + compared[0] / 4);
}

// In memory: any size between the floor and many times as much, again and again. The trees stay,
// the audit is content, and in the end the checker.
TEST(Btrfs, AnySequenceOfSizesKeepsTheFiles) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  int emptied = 0;
  const auto make = [](const std::string& image, std::mt19937_64& random) {
    const auto& makes = btrfs_makes();
    const BtrfsMade& kind = makes[random() % makes.size()];
    std::mt19937 content{static_cast<unsigned>(random())};
    make_lived_in_btrfs(image, (300 + random() % 300) * mib, kind, content, 160);
  };
  const auto change = [&](MemoryStore& place, std::mt19937_64& random) {
    for (int step = 0; step < 3; ++step) {
      const Content now = recognise_content(place);
      const std::uint64_t floor = now.filesystem()->floor().size.value();
      const std::uint64_t size =
          random() % 3 == 0 ? floor : round_down(floor + random() % (900 * mib), 4096);
      if (place.size() < size) place.resize(size);
      const auto fs = now.filesystem_kind()->open_to_change(place);
      const ResizePlan plan = fs->plan_resize(Bytes(size));
      emptied += plan.words.find("emptied") != std::string::npos ? 1 : 0;
      fs->resize(plan.to, silent);
      if (plan.to.value() < place.size()) place.resize(plan.to.value());
    }
  };
  const int sequences = run_sequences({rounds_of(300), 100, 25, make, change, check_btrfs});
  fmt::print("  {} times chunks were emptied\n", emptied);
  if (sequences >= 300) {
    EXPECT_GT(emptied, 0);
  }
}

// With the files that its maker was given.
MemoryStore filled_btrfs() {
  const TempFolder folder;
  const std::string image = make_btrfs(folder / "place.img", 128 * mib, {}, true);
  return load(image);
}

bool is_sound(MemoryStore& place) { return audited(*recognise_content(place).on_disk()).empty(); }

// A byte of a tree block, with its sum put right in all copies.
struct Damage {
  std::uint64_t block;
  std::size_t byte;
  std::uint8_t value;
};

void damage(Store& place, const btrfs::Volume& volume, const Damage& what) {
  const auto [start, chunk] = volume.chunk_of(what.block, volume.node_size());
  for (const std::uint64_t copy : chunk->copies) {
    const std::uint64_t at = copy + (what.block - start);
    Buffer bytes = read_buffer(place, at, volume.node_size());
    bytes[what.byte] = what.value;
    put_at(bytes, 0, btrfs::block_checksum(volume.checksums(), bytes));
    place.write(at, bytes);
  }
}

std::vector<std::uint64_t> all_blocks(const btrfs::Volume& volume) {
  std::vector<std::uint64_t> blocks;
  for (const std::uint64_t number :
       {btrfs::object::root_tree, btrfs::object::chunk_tree, btrfs::object::extent_tree,
        btrfs::object::device_tree, btrfs::object::free_space_tree, btrfs::object::top_files,
        btrfs::object::sum_tree, btrfs::object::quota_tree, btrfs::object::uuid_tree,
        btrfs::object::data_relocation, std::uint64_t{256}})
    if (const auto root = volume.tree(number))
      btrfs::walk_tree(volume, *root, [&](const btrfs::TreeBlock& block) {
        blocks.push_back(block.block);
        return true;
      });
  return blocks;
}

// What the system's checker finds our audit finds.
TEST(Btrfs, TheAuditAgreesWithTheChecker) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  std::mt19937 random{seed_of_run()};
  const TempFolder folder;
  const std::string image = folder / "place.img";
  make_lived_in_btrfs(image, 300 * mib, btrfs_makes().front(), random, 120);
  MemoryStore whole = load(image);
  const btrfs::Volume volume(whole);
  const auto blocks = all_blocks(volume);
  // Of a single block each, and easily passed over: every third time it is one of them.
  std::vector<std::uint64_t> small;
  for (const std::uint64_t tree : {btrfs::object::uuid_tree, btrfs::object::data_relocation}) {
    ASSERT_TRUE(volume.tree(tree));
    small.push_back(volume.tree(tree)->block);
  }
  const int rounds = inputs_of(30, 300);
  int found_by_both = 0;
  int only_here = 0;
  for (int i = 0; i < rounds; ++i) {
    MemoryStore place(whole, "place");
    const auto& among = i % 3 == 0 ? small : blocks;
    const std::uint64_t block = among[random() % among.size()];
    const Buffer bytes =
        read_buffer(place, volume.at(block, volume.node_size()), volume.node_size());
    const auto header = parse_as<btrfs::BlockHeader>(bytes, 0);
    // Behind the header: in the list of items, or in what they hold.
    std::size_t byte = sizeof(header) + random() % (header.items.value() * 25 + 1);
    if (header.level == 0 && header.items.value() != 0 && random() % 2 == 0) {
      const btrfs::LeafItem item = btrfs::leaf_item(bytes, random() % header.items.value());
      byte = sizeof(header) + item.offset.value() + random() % (item.size.value() + 1);
    }
    byte = std::min(byte, bytes.size() - 1);
    const auto value = static_cast<std::uint8_t>(bytes[byte] ^ 1U << random() % 8);
    damage(place, volume, {block, byte, value});
    const auto [checker, audit] = verdicts_on(place, check_btrfs);
    if (!checker.empty()) {
      // What looks like a profile over devices is left alone, and that is said.
      EXPECT_TRUE(audit.status == 4 || audit.said("not looked into"))
          << "block " << block << " of tree " << header.owner.value() << ", byte " << byte << ": "
          << int{bytes[byte]} << " -> " << int{value} << "\n"
          << checker.substr(0, 2000);
      found_by_both += audit.status == 4 ? 1 : 0;
    } else {
      only_here += audit.status == 4 ? 1 : 0;
    }
  }
  fmt::print("  {} found by both, {} only here\n", found_by_both, only_here);
  EXPECT_GT(found_by_both, rounds / 5);
}

// Any byte of any block: named or harmless, never a fall, a hang or a write.
TEST(Btrfs, CorruptFieldsAreReported) {
  std::mt19937 random{seed_of_run()};
  const MemoryStore whole = filled_btrfs();
  MemoryStore first(whole, "first");
  const btrfs::Volume volume(first);
  const auto blocks = all_blocks(volume);
  const int rounds = takes_all() ? 20'000 : 600;
  for (int i = 0; i < rounds; ++i) {
    MemoryStore place(whole, "place");
    const std::uint8_t values[] = {0x00, 0x01, 0x7F,
                                   0x80, 0xFF, static_cast<std::uint8_t>(random())};
    const std::uint8_t value = values[random() % 6];
    if (random() % 4 == 0) {
      auto super = read_buffer(place, btrfs::superblock_places[0], sizeof(btrfs::Superblock));
      super[32 + random() % 1000] = value;
      put_at(super, 0, btrfs::block_checksum(volume.checksums(), super));
      place.write(btrfs::superblock_places[0], super);
    } else {
      const std::uint64_t block = blocks[random() % blocks.size()];
      const bool front = random() % 2 == 0;
      damage(place, volume,
             {block, 32 + random() % (front ? 400 : volume.node_size() - 32), value});
    }
    look_all_over(place, Files::asked);
  }
}

// An extent that a file uses more of than it says there is; a block group that its maker has given
// up, whose entry of free room reaches into the next one.
TEST(Btrfs, SizesThatDoNotSuitTheirNeighboursAreFindings) {
  const MemoryStore whole = filled_btrfs();
  MemoryStore first(whole, "first");
  const btrfs::Volume volume(first);
  std::map<std::uint8_t, Damage> damages;  // by the kind of item
  for (const std::uint64_t block : all_blocks(volume)) {
    const Buffer bytes =
        read_buffer(first, volume.at(block, volume.node_size()), volume.node_size());
    const auto header = parse_as<btrfs::BlockHeader>(bytes, 0);
    for (std::uint32_t i = 0; header.level == 0 && i < header.items.value(); ++i) {
      const btrfs::LeafItem item = btrfs::leaf_item(bytes, i);
      const btrfs::Key key = btrfs::key_of(item.key);
      std::size_t byte = 0;
      if (key.type == btrfs::item::file_extent &&
          item.size.value() == sizeof(btrfs::FileExtentHead) + sizeof(btrfs::FileExtentPlace))
        byte = sizeof(header) + item.offset.value() +
               offsetof(btrfs::FileExtentHead, decompressed) + 1;
      else if (key.type == btrfs::item::free_info && !volume.chunks().contains(key.object))
        byte = sizeof(header) + i * sizeof(btrfs::LeafItem) + offsetof(btrfs::DiskKey, offset) + 1;
      if (byte != 0 && (bytes[byte] & 0x40) == 0)
        damages[key.type] = {block, byte, static_cast<std::uint8_t>(bytes[byte] | 0x40)};
      if (byte != 0 && key.type == btrfs::item::file_extent && bytes[byte] != 0)
        damages[key.type] = {block, byte, 0};
    }
  }
  ASSERT_EQ(damages.size(), 2U);
  for (const auto& [kind, what] : damages) {
    MemoryStore place(whole, "place");
    damage(place, volume, what);
    EXPECT_FALSE(is_sound(place)) << int{kind};
  }
}

// A tree of files that is being removed is looked into by nobody: what is in use must not be one.
TEST(Btrfs, ATreeInUseThatSaysItIsBeingRemovedIsAFinding) {
  const MemoryStore whole = filled_btrfs();
  const std::size_t references = offsetof(btrfs::RootItem, references);
  const std::size_t dropped_until = offsetof(btrfs::RootItem, dropped_until);
  for (const auto& [field, value] : {std::pair{references, 0}, std::pair{dropped_until, 1}}) {
    SCOPED_TRACE(field);
    MemoryStore place(whole, "place");
    const btrfs::Volume volume(place);
    const std::uint64_t block = volume.root_tree().block;
    const Buffer bytes =
        read_buffer(place, volume.at(block, volume.node_size()), volume.node_size());
    const auto header = parse_as<btrfs::BlockHeader>(bytes, 0);
    ASSERT_EQ(header.level, 0);
    bool found = false;
    for (std::uint32_t i = 0; i < header.items.value(); ++i) {
      const btrfs::LeafItem item = btrfs::leaf_item(bytes, i);
      const btrfs::Key key = btrfs::key_of(item.key);
      if (key.object != btrfs::object::top_files || key.type != btrfs::item::root) continue;
      damage(
          place, volume,
          {block, sizeof(header) + item.offset.value() + field, static_cast<std::uint8_t>(value)});
      found = true;
    }
    ASSERT_TRUE(found);
    EXPECT_FALSE(is_sound(place));
  }
}

// Content is read against its sums where that is asked for, in all chunks; a bit that turned is
// found there only.
TEST(Btrfs, ContentIsReadAgainstItsSums) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  for (const char* sum : {"crc32c", "xxhash", "sha256", "blake2"}) {
    SCOPED_TRACE(sum);
    const TempFolder folder;
    const std::string image = make_btrfs(folder / "place.img", 600 * mib, {"--csum", sum}, false);
    {
      // More than a chunk has: the sums of two chunks may stand in one item.
      const Mounted mounted(image, 0, 0, /*writable=*/true);
      run({"bash", "-c", "head -c 100M /dev/urandom > '" + mounted.path() + "/films'"});
    }
    expect_status(0, {"audit", image, "--proof", "full"});
    std::uint64_t at = 0;
    {
      MemoryStore place = load(image);
      const Content content = recognise_content(place);
      const auto tree = content.on_disk()->tree();
      for (const FileTree::Entry& entry : tree->entries(tree->roots().front().node))
        at = tree->look(entry.node).content.back().at;
    }
    ASSERT_NE(at, 0U);
    poke(image, at + 5000, "moss");
    expect_status(0, {"audit", image});
    expect_status(4, {"audit", image, "--proof", "full"}, {"the checksum of the data at"});
  }
}

TEST(Btrfs, IsReadByPathInTheSubvolumeThatTheGuestStartsFrom) {
  if (!can_mount()) GTEST_SKIP() << "no mounts here";
  const TempFolder folder;
  for (const std::string compression : {"no", "zlib", "lzo", "zstd"})
    for (const bool chosen : {false, true}) {
      SCOPED_TRACE(compression);
      const std::string image = folder / "place.img";
      files::remove(image);
      make_btrfs(image, 128 * mib, {"-L", "moss"}, false);
      {
        const Mounted mounted(image, 0, 0, /*writable=*/true);
        if (compression != "no")
          run({"mount", "-o", "remount,compress-force=" + compression, mounted.path()});
        run({"bash", "-c",
             "cd '" + mounted.path() +
                 "' && btrfs subvolume create @ && btrfs subvolume create @home && mkdir -p @/etc "
                 "@/usr && printf 'LABEL=moss / btrfs subvol=@ 0 0\\nLABEL=moss /home btrfs "
                 "subvol=@home 0 0\\n' > @/etc/fstab && echo moss > @/etc/hostname && "
                 "ln -s ../etc/fstab @/usr/table && yes bird | head -c 300000 > @/long" +
                 (chosen ? " && btrfs subvolume set-default @" : "")});
      }
      MemoryStore place = load(image);
      const Content content = recognise_content(place);
      ASSERT_TRUE(content.filesystem());
      const auto text = [&](const std::string& path) {
        return content.filesystem()->read_text(path, 1 << 20).value_or("nothing");
      };
      EXPECT_EQ(text("/etc/hostname"), "moss\n");
      EXPECT_EQ(text("/usr/table"), text("/etc/fstab"));
      EXPECT_EQ(text("/nowhere"), "nothing");
      const std::string longer = text("/long");
      ASSERT_EQ(longer.size(), 300'000U);
      EXPECT_EQ(longer.substr(299'990), "bird\nbird\n");
      expect_said({"survey", image}, {"/home", "guest moss"});
      expect_status(0, {"grow", image, "--by", "100MiB", "--give", "/home", "--dry-run"});
    }
}

// What is damaged, unfinished or not known is refused by name, and nothing is written.
TEST(Btrfs, WhatItLeavesAloneIsNamed) {
  const TempFolder folder;
  const std::string image = make_btrfs(folder / "place.img", 128 * mib, {}, true);
  MemoryStore whole = load(image);
  MemoryStore place(whole, "place");
  const auto with_super = [&](const std::function<void(btrfs::Superblock&)>& edit) {
    auto super = read_as<btrfs::Superblock>(place, btrfs::superblock_places[0]);
    edit(super);
    Buffer bytes(sizeof(super));
    put_at(bytes, 0, super);
    put_at(bytes, 0, btrfs::block_checksum(super.sum_type.value() % 4, bytes));
    MemoryStore changed(whole, "changed");
    changed.write(btrfs::superblock_places[0], bytes);
    save(changed, image);
  };
  const auto expect_refused = [&](const std::string& words, int status) {
    expect_status(status, {"grow", image, "--by", "1GiB", "--give", "disk", "--yes"}, {words});
  };
  with_super([](auto& super) { super.log_root = 30408704; });
  expect_refused("its log tree has to be replayed", 3);
  with_super([](auto& super) { super.flags = super.flags.value() | btrfs::super_flag::errors; });
  expect_refused("noted errors", 3);
  save(whole, image);
  poke(image, btrfs::superblock_places[0] + 300, "x");
  expect_refused("the superblock's checksum is wrong", 4);
  // What only its guest knows is left to it, and said.
  const auto expect_left = [&](const std::string& words) {
    expect_status(0, {"grow", image, "--by", "1GiB", "--give", "disk", "--yes"}, {"Left for you"});
    expect_said({"survey", image}, {words});
    expect_said({"audit", image}, {"not looked into"});
    EXPECT_NE(juneheath({"shrink", image, "--to", "120MiB", "--yes"}).status, 0);
  };
  with_super([](auto& super) { super.devices = 2; });
  expect_left("it lies on 2 devices");
  with_super([](auto& super) { super.flags = super.flags.value() | btrfs::super_flag::seeding; });
  expect_left("it is a seed");
  with_super([](auto& super) {
    super.incompatible = super.incompatible.value() | btrfs::incompatible::zoned;
  });
  expect_left("zoned device");
  with_super([](auto& super) { super.incompatible = super.incompatible.value() | 1U << 14; });
  expect_left("features that are not known");
  // Below its floor, with the size that would do.
  save(whole, image);
  expect_status(3, {"shrink", image, "--to", "20MiB", "--yes"});
}

}  // namespace
}  // namespace jh::test

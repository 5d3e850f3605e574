// LVM2 on disk: text, labels, areas, groups; damage of all of them; allocation.
#include "core/lvm/grow.h"
#include "core/store/views.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::uint64_t station_offset = 102760960 - 512;  // of the physical volume in fieldstation
constexpr std::uint64_t station_size = 1370112ULL * 512;

struct Station {
  Station() {
    const std::string path = unpack_sample("fieldstation", folder / "disk");
    disk = std::make_unique<MemoryStore>(load(path));
    place = std::make_unique<WindowStore>(*disk, station_offset, station_size, "station");
  }
  lvm::Groups groups() const { return lvm::find_groups({place.get()}); }
  TempFolder folder;
  std::unique_ptr<MemoryStore> disk;
  std::unique_ptr<WindowStore> place;
};

std::string group_text(const std::string& volumes, const std::string& devices,
                       const std::string& more = "") {
  return "moor {\nid = \"AAAAAA-BBBB-CCCC-DDDD-EEEE-FFFF-GGGGGG\"\nseqno = 7\n"
         "status = [\"RESIZEABLE\", \"READ\", \"WRITE\"]\nextent_size = 8192\n" +
         more + "physical_volumes {\n" + devices + "}\nlogical_volumes {\n" + volumes + "}\n}\n";
}

std::string device_text(int number, int extents, const char* status = "\"ALLOCATABLE\"") {
  return fmt::format(
      "pv{0} {{\nid = \"AAAAAA-BBBB-CCCC-DDDD-EEEE-FFFF-00000{0}\"\nstatus = [{2}]\n"
      "dev_size = 99999999\npe_start = 2048\npe_count = {1}\n}}\n",
      number, extents, status);
}

std::string volume_text(const std::string& name, int extents, const std::string& at,
                        const std::string& more = "") {
  return fmt::format(
      "{0} {{\nid = \"AAAAAA-BBBB-CCCC-DDDD-EEEE-FFFF-vvvvvv\"\nstatus = [\"READ\", \"WRITE\", "
      "\"VISIBLE\"]\n{3}segment_count = 1\nsegment1 {{\nstart_extent = 0\nextent_count = {1}\n"
      "type = \"striped\"\nstripe_count = 1\nstripes = [\n{2}\n]\n}}\n}}\n",
      name, extents, at, more);
}

lvm::Group group_of(const std::string& text) { return lvm::Group(lvm::parse_text(text)); }

TEST(LvmText, IsWrittenBackAsItWasRead) {
  const Station station;
  const auto device = lvm::read_device(*station.place);
  const std::string& text = device.areas.at(0).text;
  const std::string written = lvm::write_text(lvm::parse_text(text));
  EXPECT_EQ(written, text);
  EXPECT_EQ(lvm::write_text(lvm::parse_text(written)), written);
}

TEST(LvmText, KeepsWhatItDoesNotKnow) {
  const std::string odd =
      "# made up\nheron {\nwings = 2\nspan = -1.75\nname = \"a \\\"quoted\\\" \\\\ name\"\n"
      "list = [1, \"two\", 3]\nempty = []\n\nnest { # with a remark\neggs = 4\t# four\n}\n}\n";
  const std::string text = group_text("", device_text(0, 10), odd);
  lvm::Group group = group_of(text);
  group.increment_sequence("test", 99);
  const std::string written = lvm::write_text(group.text());
  for (const char* part :
       {"# made up", "span = -1.75", "\"a \\\"quoted\\\" \\\\ name\"", "list = [1, \"two\", 3]",
        "empty = []", "eggs = 4\t# four", "seqno = 8", "description = \"test\""})
    EXPECT_THAT(written, HasSubstr(part));
}

TEST(LvmText, RandomDamageIsRefusedCleanly) {
  const Station station;
  const std::string text = lvm::read_device(*station.place).areas.at(0).text;
  std::mt19937 random(20261123);
  int refused = 0;
  for (int i = 0; i < 4000; ++i) {
    std::string damaged = text;
    for (std::uint32_t n = random() % 3 + 1; n > 0; --n) {
      const std::size_t at = random() % damaged.size();
      if (random() % 4 == 0)
        damaged.erase(at, random() % 40);
      else
        damaged[at] = static_cast<char>(random());
      if (damaged.empty()) damaged = "x";
    }
    if (i % 50 == 0) damaged.resize(random() % text.size());
    try {
      const lvm::Group group = group_of(damaged);
      for (const auto& volume : group.volumes)
        if (volume.plain()) lvm::allocate(group, volume, 1000);
    } catch (const Error& error) {
      EXPECT_EQ(error.status(), Status::damaged) << error.what();
      ++refused;
    }
  }
  EXPECT_GT(refused, 1000);
  EXPECT_THROW(group_of(std::string(100'000, '{')), Error);
  std::string deep;
  for (int i = 0; i < 10'000; ++i) deep += "a {\n";
  EXPECT_THROW(lvm::parse_text(deep), Error);
}

TEST(LvmDevice, EveryByteOfLabelAndAreaHeaderCounts) {
  const Station station;
  for (std::uint64_t at = 512; at < 4096 + 512; at += at < 1024 ? 1 : (at < 4096 ? 512 : 1)) {
    const MemoryStore whole(*station.disk, "copy");
    MemoryStore& copy = const_cast<MemoryStore&>(whole);
    Buffer byte = read_buffer(copy, station_offset + at, 1);
    byte[0] ^= 0x11;
    copy.write(station_offset + at, byte);
    WindowStore place(copy, station_offset, station_size, "station");
    const auto found = lvm::find_groups({&place});
    const bool used = at < 1024 || at >= 4096;
    EXPECT_EQ(found.groups.empty(), used) << "byte " << at;
    // The label's first and last words tell that it is one at all.
    const bool recognised = lvm::recognise(place);
    EXPECT_EQ(found.trouble.empty(), !used || !recognised) << "byte " << at;
  }
}

TEST(LvmDevice, ADamagedOrTruncatedTextIsFound) {
  const Station station;
  const auto device = lvm::read_device(*station.place);
  const auto& area = device.areas.at(0);
  for (std::uint64_t i = 0; i < area.slot.size; i += 7) {
    MemoryStore copy(*station.disk, "copy");
    const std::uint64_t at = station_offset + area.place.offset + area.slot.offset + i;
    Buffer byte = read_buffer(copy, at, 1);
    byte[0] ^= 0x20;
    copy.write(at, byte);
    WindowStore place(copy, station_offset, station_size, "station");
    EXPECT_FALSE(lvm::find_groups({&place}).trouble.empty()) << i;
  }
}

TEST(LvmDevice, TextGoesRoundInItsArea) {
  MemoryStore store(1 << 20);
  lvm::MetadataArea area;
  area.place = {4096, 16384};
  lvm::make_area(store, area);
  lvm::Device device;
  device.id = std::string(32, 'a');
  device.device_size = store.size();
  device.data = {{65536, 0}};
  device.extension_flags = lvm::extension_in_use;
  device.areas = {area};
  lvm::write_label(store, device);
  std::mt19937 random(3);
  for (int i = 0; i < 500; ++i) {
    std::string text(random() % 6000 + 1, static_cast<char>('a' + i % 26));
    auto read = lvm::read_device(store);
    ASSERT_FALSE(read.areas.at(0).trouble.has_value()) << read.areas[0].trouble->what();
    lvm::write_area(store, read.areas[0], text);
    EXPECT_EQ(lvm::read_device(store).areas.at(0).text, text) << i;
  }
  auto read = lvm::read_device(store);
  EXPECT_THROW(lvm::write_area(store, read.areas[0], std::string(15000, 'x')), Error);
}

TEST(LvmGroup, AStaleCopyIsNotedAndRenewed) {
  const TempFolder folder;
  std::vector<MemoryStore> disks;
  for (const char* name : {"two-disk-a", "two-disk-b"}) {
    unpack_sample(name, folder / name);
    disks.push_back(load(folder / name));
  }
  WindowStore a(disks[0], 68157952 - 512, 522240ULL * 512, "a");
  WindowStore b(disks[1], 1049088 - 512, 520192ULL * 512, "b");
  {
    // Only one of the two gets the next text, as if the power had gone in between.
    auto found = lvm::find_groups({&a, &b});
    ASSERT_EQ(found.groups.size(), 1U);
    lvm::OpenGroup& open = found.groups[0];
    EXPECT_TRUE(open.notes.empty());
    open.group.increment_sequence("half", 1);
    lvm::write_area(*open.members[0]->store, open.members[0]->device.areas[0],
                    lvm::write_text(open.group.text()));
  }
  auto found = lvm::find_groups({&a, &b});
  ASSERT_EQ(found.groups.size(), 1U);
  EXPECT_EQ(found.groups[0].group.sequence, 4U);
  ASSERT_EQ(found.groups[0].notes.size(), 1U);
  EXPECT_THAT(found.groups[0].notes[0], HasSubstr("older (3, not 4)"));
  lvm::commit(found.groups[0], "whole", 2);
  const auto now = lvm::find_groups({&a, &b});
  EXPECT_TRUE(now.groups.at(0).notes.empty());
  EXPECT_EQ(now.groups[0].group.sequence, 5U);
}

TEST(LvmGroup, ASecondAreaAtTheEndMovesAlong) {
  MemoryStore store(64 << 20);
  lvm::Device device;
  device.id = "AAAAAABBBBCCCCDDDDEEEEFFFF000000";
  device.device_size = 32 << 20;
  device.extension_flags = lvm::extension_in_use;
  lvm::MetadataArea front;
  front.place = {4096, (1 << 20) - 4096};
  lvm::MetadataArea end;
  end.place = {31 << 20, 1 << 20};
  device.areas = {front, end};
  device.data = {{1 << 20, 30 << 20}};
  const std::string text = group_text("", device_text(0, 7));
  WindowStore old_place(store, 0, 32 << 20, "old");
  for (lvm::MetadataArea& area : device.areas) {
    lvm::make_area(old_place, area);
    lvm::write_area(old_place, area, text);
  }
  lvm::write_label(old_place, device);
  auto found = lvm::find_groups({&store});
  ASSERT_EQ(found.groups.size(), 1U);
  EXPECT_EQ(lvm::extents_of(found.groups[0], 0, store.size()), 15U);
  lvm::resize_device(found.groups[0], 0, store.size());
  lvm::commit(found.groups[0], "grown", 1);
  const auto now = lvm::find_groups({&store});
  ASSERT_EQ(now.groups.size(), 1U);
  EXPECT_TRUE(now.groups[0].notes.empty());
  const auto& areas = now.groups[0].members[0]->device.areas;
  ASSERT_EQ(areas.size(), 2U);
  EXPECT_EQ(areas[1].place.offset, 63U << 20);
  EXPECT_EQ(areas[0].text, areas[1].text);
  EXPECT_EQ(now.groups[0].group.pvs[0].extents, 15U);
}

TEST(LvmAllocation, BehindItselfThenOnePieceThenFewest) {
  // pv0: root 0-9, other 12-19, free 10-11 and 20-29; pv1: free 0-4.
  const std::string devices = device_text(0, 30) + device_text(1, 5);
  const std::string volumes =
      volume_text("root", 10, "\"pv0\", 0") + volume_text("other", 8, "\"pv0\", 12");
  const lvm::Group group = group_of(group_text(volumes, devices));
  const auto pieces = [&](std::uint64_t extents) {
    std::string text;
    for (const auto& addition : lvm::allocate(group, *group.find("root"), extents))
      text += fmt::format("{}@{}:{} ", addition.count, addition.stripes[0].pv,
                          addition.stripes[0].extent);
    return text;
  };
  EXPECT_EQ(pieces(2), "2@0:10 ");
  EXPECT_EQ(pieces(7), "2@0:10 5@0:20 ");  // one piece, on the device it lies on already
  EXPECT_EQ(pieces(12), "2@0:10 10@0:20 ");
  EXPECT_EQ(pieces(100), "2@0:10 10@0:20 5@1:0 ");
  lvm::Group grown = group;
  lvm::extend_volume(grown, "root", lvm::allocate(group, *group.find("root"), 12));
  ASSERT_EQ(grown.find("root")->segments.size(), 2U);
  EXPECT_EQ(grown.find("root")->segments[0].count, 12U);
  EXPECT_EQ(grown.free_extents(), 5U);
}

TEST(LvmAllocation, PoliciesAreHonoured) {
  const auto room = [](const char* policy, const std::string& second) {
    const std::string volumes =
        volume_text("root", 10, "\"pv0\", 0",
                    std::string("allocation_policy = \"") + policy + "\"\n") +
        volume_text("other", 8, "\"pv0\", 12");
    const lvm::Group group = group_of(group_text(volumes, device_text(0, 30) + second));
    return lvm::total(lvm::allocate(group, *group.find("root"), 1000));
  };
  EXPECT_EQ(room("contiguous", device_text(1, 5)), 2U);
  EXPECT_EQ(room("cling", device_text(1, 5)), 12U);
  EXPECT_EQ(room("cling_by_tags", device_text(1, 5)), 12U);
  EXPECT_EQ(room("inherit", device_text(1, 5)), 17U);
  EXPECT_EQ(room("normal", device_text(1, 5, "")), 12U);  // not allocatable
}

TEST(LvmAllocation, ClingingByTagsReachesDevicesThatShareOne) {
  const auto tagged = [](int number, const char* tags) {
    std::string text = device_text(number, 30);
    return text.insert(text.find("dev_size"), fmt::format("tags = [{}]\n", tags));
  };
  const std::string volume =
      volume_text("root", 10, "\"pv0\", 0", "allocation_policy = \"cling_by_tags\"\n");
  const lvm::Group group = group_of(group_text(
      volume, tagged(0, "\"fast\", \"north\"") + tagged(1, "\"slow\"") + tagged(2, "\"north\"")));
  EXPECT_EQ(lvm::room(group, *group.find("root")), 50U);
  for (const auto& addition : lvm::allocate(group, *group.find("root"), 1000))
    EXPECT_NE(addition.stripes[0].pv, 1U);
}

TEST(LvmGroup, OtherKindsOfVolumesKeepWhatTheyUse) {
  const std::string pool =
      "pool {\nid = \"AAAAAA-BBBB-CCCC-DDDD-EEEE-FFFF-pppppp\"\nstatus = [\"READ\", \"WRITE\", "
      "\"VISIBLE\"]\nsegment_count = 1\nsegment1 {\nstart_extent = 0\nextent_count = 4\ntype = "
      "\"thin-pool\"\nmetadata = \"pool_tmeta\"\npool = \"pool_tdata\"\n}\n}\n";
  const std::string volumes = pool + volume_text("pool_tdata", 4, "\"pv0\", 0") +
                              volume_text("pool_tmeta", 1, "\"pv0\", 4") +
                              volume_text("root", 2, "\"pv0\", 5");
  const lvm::Group group = group_of(group_text(volumes, device_text(0, 10)));
  EXPECT_EQ(group.find("pool")->kind, "thin-pool");
  EXPECT_FALSE(group.find("pool")->plain());
  EXPECT_EQ(group.find("pool_tdata")->used_by, "pool");
  EXPECT_EQ(group.find("root")->used_by, "");
  EXPECT_EQ(group.free_extents(), 3U);
}

TEST(LvmGroup, ReasonsAgainstAChangeAreNamed) {
  const auto why = [](const std::string& from, const std::string& to) {
    std::string text = group_text("", device_text(0, 10));
    text.replace(text.find(from), from.size(), to);
    const auto blockers = group_of(text).blockers;
    return blockers.empty() ? std::string() : std::string(blockers.front().what());
  };
  EXPECT_EQ(why("seqno", "seqno"), "");
  EXPECT_THAT(why("\"RESIZEABLE\"", "\"RESIZEABLE\", \"EXPORTED\""), HasSubstr("exported"));
  EXPECT_THAT(why("\"RESIZEABLE\", ", ""), HasSubstr("may not be resized"));
  EXPECT_THAT(why("seqno", "lock_type = \"sanlock\"\nseqno"), HasSubstr("shared between machines"));
  EXPECT_THAT(why("dev_size", "flags = [\"MISSING\"]\ndev_size"),
              HasSubstr("lacks a physical volume"));
}

TEST(LvmGroup, TwoVolumesOnOneExtentAreDamage) {
  const std::string volumes =
      volume_text("root", 10, "\"pv0\", 0") + volume_text("other", 8, "\"pv0\", 9");
  EXPECT_THROW(group_of(group_text(volumes, device_text(0, 30))), Error);
  EXPECT_THROW(group_of(group_text(volume_text("root", 10, "\"pv0\", 25"), device_text(0, 30))),
               Error);
}

}  // namespace
}  // namespace jh::test

// Partitions that move towards the front with what is in them: primary and logical ones, physical
// volumes that shrink on their way, filesystems that name their own place.
#include "core/fs/fat/format.h"
#include "core/table/mbr/format.h"
#include "support/guest_story.h"
#include "support/test.h"

namespace jh::test {
namespace {

class Moved : public GuestStory {
 protected:
  // Smaller, sound, with the same content; and undone, the same bytes as before.
  ProgramResult shrink_and_judge(const std::string& image, const Words& options) {
    const std::uint32_t digest = file_digest(image);
    const std::uint64_t size = files::file_size(image);
    const auto before = trees({image});
    const ProgramResult moved = run_on("shrink", {image}, options);
    EXPECT_EQ(moved.status, 0) << moved.out << moved.err;
    if (moved.status != 0) return moved;
    EXPECT_TRUE(moved.said("towards the front")) << moved.out;
    EXPECT_LT(files::file_size(image), size);
    expect_audit_clean({image});
    expect_same({image}, before);
    look(image);
    expect_status(0, {"undo", image});
    EXPECT_EQ(file_digest(image), digest);
    return moved;
  }
  virtual void look(const std::string& image) {
    if (size_wanted_ != 0) {
      EXPECT_EQ(files::file_size(image), size_wanted_);
    }
  }
  std::uint64_t size_wanted_ = 0;
};

// What stands behind a partition that became smaller moves up, and the disk ends behind it.
TEST_F(Moved, WhatStandsBehindBoot) {
  for (const std::string sample : {"fieldstation", "mbr-boot-lvm"}) {
    SCOPED_TRACE(sample);
    const std::string image = unpack_sample(sample, folder_ / (sample + ".img"));
    const std::string to = std::to_string(files::file_size(image) - 40 * mib);
    size_wanted_ = std::stoull(to);
    shrink_and_judge(image, {"--to", to, "--take", "/boot=40MiB", "--allow-move", "--yes"});
  }
}

// Every partition at its floor, side by side: a physical volume shrinks and moves.
TEST_F(Moved, EverythingToTheFloor) {
  for (const std::string sample : {"fieldstation", "mbr-boot-lvm", "mbr-extended"}) {
    SCOPED_TRACE(sample);
    const std::string image = unpack_sample(sample, folder_ / (sample + ".img"));
    shrink_and_judge(image, {"--to", "floor", "--allow-move", "--yes"});
  }
  // Here nothing stands behind what becomes smaller.
  const std::string image = unpack_sample("nestcam", folder_ / "nestcam.img");
  const auto before = trees({image});
  succeeds({"shrink", image, "--to", "floor", "--allow-move", "--yes"});
  expect_audit_clean({image});
  expect_same({image}, before);
}

class MovedLogical : public Moved {
 protected:
  void look(const std::string& image) override { listed_ = listed_partitions(image, "MBR"); }
  std::map<std::uint64_t, std::uint64_t> listed_;
};

// The root in front loses room: the extended partition and all in it move up, with their records.
TEST_F(MovedLogical, BehindThePrimaryOne) {
  const std::string image = unpack_sample("mbr-extended", folder_ / "guest.img");
  const auto before = listed_partitions(image, "MBR");
  ASSERT_EQ(before.size(), 3U);
  const std::string to = std::to_string(files::file_size(image) - 100 * mib);
  shrink_and_judge(image, {"--to", to, "--take", "/=100MiB", "--allow-move", "--yes"});
  std::map<std::uint64_t, std::uint64_t> expected;
  for (const auto& [start, length] : before)
    if (start == before.begin()->first)
      expected[start] = length - 100 * mib;
    else
      expected[start - 100 * mib] = length;
  EXPECT_EQ(listed_, expected);
  // Undone, and now the swap in between loses some: what is behind it moves, the first stays.
  shrink_and_judge(image, {"--by", "30MiB", "--take", "swap=30MiB", "--allow-move", "--yes"});
  expected = before;
  const auto swap = std::next(expected.begin());
  swap->second -= 30 * mib;
  auto data = expected.extract(std::prev(expected.end()));
  data.key() -= 30 * mib;
  expected.insert(std::move(data));
  EXPECT_EQ(listed_, expected);
}

// A disk with an ext4, a FAT and an NTFS behind each other, which say where their partitions begin.
class MovedNames : public Moved {
 protected:
  static constexpr std::uint64_t fat_at = 129 * mib;
  static constexpr std::uint64_t fat_size = 40 * mib;
  static constexpr std::uint64_t ntfs_at = 169 * mib;

  void SetUp() override {
    image_ = folder_ / "guest.img";
    make_ext(folder_ / "fs", 128 * mib, {"-b", "4096"});
    make_sparse_file(folder_ / "fat", fat_size);
    run({"mkfs.fat", "-F", "32", "-h", std::to_string(fat_at / 512), folder_ / "fat"});
    const std::string office = unpack_sample("mbr-ntfs", folder_ / "office.img");
    const auto [start, length] = *listed_partitions(office, "MBR").begin();
    ntfs_size_ = length;
    make_sparse_file(image_, ntfs_at + ntfs_size_);
    const auto put = [&](const std::string& from, std::uint64_t skip, std::uint64_t at,
                         std::uint64_t size) {
      run({"dd", "if=" + from, "of=" + image_, "bs=64K", "conv=notrunc,sparse",
           "iflag=skip_bytes,count_bytes", "oflag=seek_bytes", fmt::format("skip={}", skip),
           fmt::format("seek={}", at), fmt::format("count={}", size)});
    };
    put(folder_ / "fs", 0, mib, 128 * mib);
    put(folder_ / "fat", 0, fat_at, fat_size);
    put(office, start, ntfs_at, length);
    name_place(ntfs_at);
    name_place(ntfs_at + ntfs_size_ - 512);
    mbr::Record record{};
    record.signature = mbr::boot_signature;
    const auto entry = [&](std::size_t i, std::uint8_t type, std::uint64_t at, std::uint64_t size) {
      record.entries[i].type = type;
      record.entries[i].start_lba = static_cast<std::uint32_t>(at / 512);
      record.entries[i].sectors = static_cast<std::uint32_t>(size / 512);
    };
    entry(0, 0x83, mib, 128 * mib);
    entry(1, 0x0C, fat_at, fat_size);
    entry(2, 0x07, ntfs_at, ntfs_size_);
    const ConstByteSpan bytes = bytes_of(record);
    poke(image_, 0, std::string(bytes.begin(), bytes.end()));
  }
  void name_place(std::uint64_t at) {
    Le32 sectors;
    sectors = static_cast<std::uint32_t>(ntfs_at / 512);
    const ConstByteSpan bytes = bytes_of(sectors);
    poke(image_, at + offsetof(fat::Sector, hidden_sectors),
         std::string(bytes.begin(), bytes.end()));
  }
  // A partition as a file of its own.
  std::string cut_out(const std::string& name, std::uint64_t at, std::uint64_t size) {
    const std::string file = folder_ / name;
    files::remove(file);
    run({"dd", "if=" + image_, "of=" + file, "bs=64K", "iflag=skip_bytes,count_bytes",
         fmt::format("skip={}", at), fmt::format("count={}", size)});
    return file;
  }
  std::uint64_t hidden(const std::string& file, std::uint64_t at) {
    MemoryStore bytes = load(file);
    return read_as<fat::Sector>(bytes, at).hidden_sectors.value();
  }
  // Names, sizes and content of what an archiver finds in an NTFS; its boot sector names its place.
  static std::string listing(const std::string& file) {
    const ProgramResult listed =
        run({"sh", "-c", "7zz x -so -tntfs '-x!*/$Boot' '" + file + "' | cksum"});
    const ProgramResult names = run({"sh", "-c", "7zz l -ba -tntfs '" + file + "'"});
    EXPECT_EQ(names.status, 0) << names.err;
    EXPECT_GT(names.out.size(), 20U);
    return listed.out + names.out;
  }
  void look(const std::string&) override {
    const std::string fat = cut_out("fat", fat_at - 60 * mib, fat_size);
    const std::string ntfs = cut_out("ntfs", ntfs_at - 60 * mib, ntfs_size_);
    EXPECT_EQ(run({"fsck.fat", "-n", fat}).status, 0) << run({"fsck.fat", "-n", fat}).out;
    EXPECT_EQ(hidden(fat, 0), (fat_at - 60 * mib) / 512);
    EXPECT_EQ(hidden(fat, 6 * 512), (fat_at - 60 * mib) / 512) << "the copy";
    EXPECT_EQ(hidden(ntfs, 0), (ntfs_at - 60 * mib) / 512);
    EXPECT_EQ(hidden(ntfs, ntfs_size_ - 512), (ntfs_at - 60 * mib) / 512) << "the copy";
    EXPECT_EQ(listing(ntfs), ntfs_listing_);
  }

  std::string image_;
  std::uint64_t ntfs_size_ = 0;
  std::string ntfs_listing_;
};

TEST_F(MovedNames, AreToldTheirNewPlace) {
  ntfs_listing_ = listing(cut_out("ntfs", ntfs_at, ntfs_size_));
  shrink_and_judge(image_, {"--by", "60MiB", "--take", "p1=60MiB", "--allow-move", "--yes"});
}

// Nobody knows what unknown content says of its place: it stays, and so does what is behind it.
TEST_F(MovedNames, UnknownContentStays) {
  poke(image_, fat_at, std::string(512, 'x'));
  poke(image_, fat_at + 6 * 512, std::string(512, 'x'));
  expect_status(3,
                {"shrink", image_, "--by", "60MiB", "--take", "p1=60MiB", "--allow-move", "--yes"});
}

}  // namespace
}  // namespace jh::test

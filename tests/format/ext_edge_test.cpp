// Edges that a careful reading found: journals that are damaged in the middle, errors that the guest
// noted, clusters that several owners share, and numbers near the end of their range.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "core/base/checksum.h"
#include "core/change/plan.h"
#include "core/fs/ext/block_map.h"
#include "core/fs/ext/journal.h"
#include "core/fs/ext/rest.h"
#include "core/store/file_store.h"
#include "core/store/scratch_store.h"
#include "core/table/gpt/format.h"
#include "support/ext_tools.h"
#include "support/judges.h"
#include "support/samples.h"
#include "support/tree.h"

namespace jh::test {
namespace {

constexpr std::uint64_t mib = 1U << 20;

// The fixture of a guest that lost power, and its journal.
class DirtyJournal : public testing::Test {
 protected:
  DirtyJournal() {
    unpack_sample("dirty-ext4", folder_ / "dirty.img");
    disk_ = std::make_unique<MemoryStore>(load(folder_ / "dirty.img"));
    const Guest guest({{"/m/dirty.img", disk_.get()}});
    for (const Place* place : guest.places())
      if (place->content.kind == ContentKind::ext) start_ = place->offset.value();
    window_ = std::make_unique<WindowStore>(*disk_, start_, disk_->size() - start_, "ext");
    ext::Filesystem fs(*window_);
    block_size_ = fs.geometry().block_size;
    inode_ = fs.read_inode(fs.super().journal_inum.value());
    super_at_ = place_of(fs, 0);
    super_ = read_as<ext::journal::Superblock>(*window_, super_at_);
  }
  std::uint64_t place_of(ext::Filesystem& fs, std::uint64_t block) const {
    return ext::find_block(fs, inode_, block) * block_size_;
  }
  std::string trouble() {
    try {
      ScratchStore view(*window_);
      ext::bring_to_rest(view);
      return {};
    } catch (const Error& error) {
      return error.what();
    }
  }

  TempFolder folder_;
  std::unique_ptr<MemoryStore> disk_;
  std::unique_ptr<WindowStore> window_;
  std::uint64_t start_ = 0;
  std::uint64_t block_size_ = 0;
  ext::InodeRecord inode_;
  std::uint64_t super_at_ = 0;
  ext::journal::Superblock super_{};
};

TEST_F(DirtyJournal, IsReplayedAsItIs) { EXPECT_EQ(trouble(), ""); }

TEST_F(DirtyJournal, AnErrorThatItNotesIsRefused) {
  super_.error = 5;
  super_.checksum = ext::journal::superblock_checksum(super_);
  window_->write(super_at_, bytes_of(super_));
  EXPECT_NE(trouble().find("notes an error"), std::string::npos) << trouble();
}

// Every block of the log that holds something, with one byte wrong: never are complete transactions
// thrown away silently.
TEST_F(DirtyJournal, AWrongSumInFrontOfCompleteTransactionsIsDamage) {
  ext::Filesystem fs(*window_);
  ext::Journal journal(fs);
  const auto whole = journal.scan();
  ASSERT_GT(whole.transactions, 1U);
  int damaged = 0;
  for (std::uint32_t block = super_.start.value(); block < super_.start.value() + 60; ++block) {
    const std::uint64_t at = place_of(fs, block) + 100;
    const Buffer old = read_buffer(*window_, at, 1);
    Buffer changed = old;
    changed[0] ^= 0x10;
    window_->write(at, changed);
    try {
      ext::Filesystem again(*window_);
      ext::Journal other(again);
      // Only what was never completed may be missing.
      EXPECT_GE(other.scan().transactions + 1, whole.transactions) << block;
    } catch (const Error& error) {
      EXPECT_EQ(error.status(), Status::damaged) << error.what();
      ++damaged;
    }
    window_->write(at, old);
  }
  EXPECT_GT(damaged, 5);
}

TEST_F(DirtyJournal, ALengthOfFastCommitsNearTheEndOfItsRangeIsDamage) {
  super_.feature_incompat = super_.feature_incompat.value() | ext::journal::incompat_fast_commit;
  super_.fast_commit_blocks = 0xFFFFFFFEU;
  super_.checksum = ext::journal::superblock_checksum(super_);
  window_->write(super_at_, bytes_of(super_));
  EXPECT_NE(trouble(), "");
}

// The bitmaps of several groups share a cluster: what a leaving group gives back, others need.
TEST(Bigalloc, SeveralGroupsBecomeSmaller) {
  for (const char* cluster : {"4096", "16384"}) {
    const TempFolder folder;
    const std::string image = folder / "clusters.img";
    make_ext(image, 700 * mib, {"-b", "1024", "-C", cluster, "-O", "bigalloc", "-N", "2048"});
    const auto tree = ext_tree(image);
    const std::uint64_t floor = floor_of(image);
    for (const std::uint64_t size : {500 * mib, 300 * mib, floor}) {
      const std::uint64_t now = shrink_ext(image, size);
      std::filesystem::resize_file(image, now);
      EXPECT_EQ(check_ext(image), "") << cluster << " to " << size;
      EXPECT_EQ(words_of(audit_ext(image)), "");
      EXPECT_EQ(tree_difference(tree, ext_tree(image)), "");
    }
  }
}

TEST(GptEdges, ASpareCopyAtTheEndOfAllNumbersIsADefectOfThatCopyOnly) {
  const TempFolder folder;
  unpack_sample("nestcam", folder / "n.img");
  for (const std::uint64_t lba : {(1ULL << 55) - 1, 1ULL << 55, 0xFFFFFFFFFFFFFFFFULL, 0x7FFFFFFFFFFFFFULL}) {
    MemoryStore disk = load(folder / "n.img");
    auto header = read_as<gpt::Header>(disk, 512);
    header.alternate_lba = lba;
    header.header_crc = 0;
    disk.write(512, bytes_of(header));
    header.header_crc = crc32(read_buffer(disk, 512, header.header_size.value()));
    disk.write(512, bytes_of(header));
    const Guest guest({{"/m/n.img", &disk}});
    ASSERT_NE(guest.disks()[0].table, nullptr) << lba;
    EXPECT_EQ(guest.disks()[0].table->facts().partitions.size(), 3U);
    Findings findings;
    guest.disks()[0].table->audit(disk, findings);
    EXPECT_FALSE(findings.clean());
  }
}

}  // namespace
}  // namespace jh::test

// Edges that a careful reading found: journals that are damaged in the middle, errors that the
// guest noted, clusters that several owners share, and numbers near the end of their range.
#include "core/base/checksum.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/block_map.h"
#include "core/fs/ext/directory_edit.h"
#include "core/fs/ext/ext.h"
#include "core/fs/ext/journal.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/rest.h"
#include "core/plan/plan.h"
#include "core/store/file_store.h"
#include "core/store/scratch_store.h"
#include "core/table/gpt/format.h"
#include "support/ext_tools.h"
#include "support/guest_writes.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

Findings audit_structure(const std::string& path) {
  FileStore file(path, Access::read_only);
  ext::Filesystem fs(file);
  Findings findings;
  ext::audit(fs, {ext::AuditScope::structure, fs.geometry().group_count - 1}, findings, silent);
  return findings;
}

// The fixture of a guest that lost power, and its journal.
class DirtyJournal : public testing::Test {
 protected:
  DirtyJournal() {
    unpack_sample("dirty-ext4", folder_ / "dirty.img");
    disk_ = std::make_unique<MemoryStore>(load(folder_ / "dirty.img"));
    const Guest guest({{"/m/dirty.img", disk_.get()}});
    for (const Layer* place : guest.layers())
      if (place->content.filesystem_kind() == &ext::kind) start_ = place->offset.value();
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
  EXPECT_THAT(trouble(), HasSubstr("notes an error"));
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
    const std::string image =
        make_ext(folder / "clusters.img", 700 * mib,
                 {"-b", "1024", "-C", cluster, "-O", "bigalloc", "-N", "2048"});
    const auto tree = ext_tree(image);
    const std::uint64_t floor = floor_of(image);
    for (const std::uint64_t size : {500 * mib, 300 * mib, floor}) {
      const std::uint64_t now = shrink_ext(image, size);
      files::resize_file(image, now);
      EXPECT_EQ(check_ext(image), "") << cluster << " to " << size;
      EXPECT_EQ(words_of(audit_ext(image)), "");
      EXPECT_EQ(tree_difference(tree, ext_tree(image)), "");
    }
  }
}

// A file that was open when its last name went, or that was being cut: the guest's next start would
// see to it, and so do we. The checker counts blocks, inodes and what owners use.
class Orphans : public testing::TestWithParam<int> {
 protected:
  void SetUp() override {
    const ExtKind& kind = ext_kinds()[static_cast<std::size_t>(GetParam())];
    make_ext_kind(kind, 1024, image_, 64 * mib, {});
    const FileStorePtr file = open();
    ext::Filesystem fs(*file);
    if (!fs.geometry().has_incompat(ext::incompat::extents))
      GTEST_SKIP() << "the test makes files with extents";
    ino_ = make_file(fs, "open", 300'000);
    fs.write_super(0);
    file->flush();
    ASSERT_EQ(check_ext(image_), "");
  }
  using FileStorePtr = std::unique_ptr<FileStore>;
  FileStorePtr open() const { return std::make_unique<FileStore>(image_, Access::read_write); }

  // The list of orphans has this one.
  void leave(const std::function<void(ext::InodeRecord&)>& change, bool named) const {
    const FileStorePtr file = open();
    ext::Filesystem fs(*file);
    if (!named) {
      ext::InodeRecord root = fs.read_inode(ext::root_ino);
      ASSERT_TRUE(ext::remove_name(fs, root, "open", ino_));
      fs.write_inode(root);
    }
    ext::InodeRecord inode = fs.read_inode(ino_);
    inode.fields.dtime = 0;
    change(inode);
    inode.store_fields();
    fs.write_inode(inode);
    fs.edit_super().last_orphan = ino_;
    fs.write_super(0);
    file->flush();
  }
  void settle() const {
    const FileStorePtr file = open();
    ext::bring_to_rest(*file);
    file->flush();
  }

  const TempFolder folder_;
  const std::string image_ = folder_ / "fs.img";
  std::uint32_t ino_ = 0;
};

TEST_P(Orphans, AreRemoved) {
  leave([](ext::InodeRecord& inode) { inode.fields.links_count = 0; }, /*named=*/false);
  settle();
  EXPECT_EQ(check_ext(image_), "");
  EXPECT_EQ(words_of(audit_ext(image_)), "");
}

TEST_P(Orphans, AreCut) {
  // In front of a cluster's end, behind it, and to nothing.
  for (const std::uint32_t size : {150'001U, 65'536U, 0U}) {
    leave([&](ext::InodeRecord& inode) { inode.fields.size_lo = size; }, /*named=*/true);
    settle();
    EXPECT_EQ(check_ext(image_), "") << size;
    EXPECT_EQ(words_of(audit_ext(image_)), "") << size;
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, Orphans, testing::Range(0, static_cast<int>(ext_kinds().size())),
                         [](const auto& test) {
                           return std::string(
                               ext_kinds()[static_cast<std::size_t>(test.param)].name);
                         });

// Values of attributes that have inodes of their own are counted by their users.
TEST(OrphansOf, InodesWithValuesOfTheirOwnAreRefused) {
  const TempFolder folder;
  const std::string image = make_ext(folder / "fs.img", 64 * mib, {"-b", "1024", "-O", "ea_inode"});
  FileStore file(image, Access::read_write);
  ext::Filesystem fs(file);
  std::uint32_t holder = 0;
  ext::walk_tree(fs, [&](const std::string&, const ext::InodeRecord& inode) {
    if (inode.type() == ext::mode_file && inode.attribute_block() != 0) holder = inode.ino;
  });
  if (holder == 0) holder = make_file(fs, "holder", 5000);
  ext::InodeRecord inode = fs.read_inode(holder);
  // An inline attribute whose value lies in another inode.
  Buffer entry(sizeof(Le32) + 16 + 4);
  Le32 magic;
  magic = 0xEA020000;
  put_at(entry, 0, magic);
  entry[4] = 1;  // length of the name
  entry[5] = 1;  // "user."
  Le32 value_inode;
  value_inode = 12;
  put_at(entry, 8, value_inode);
  Le32 length;
  length = 100;
  put_at(entry, 12, length);
  entry[20] = 'v';
  const std::size_t at = ext::old_inode_size + inode.fields.extra_isize.value();
  std::copy(entry.begin(), entry.end(), inode.raw.begin() + static_cast<std::ptrdiff_t>(at));
  inode.fields.links_count = 0;
  inode.fields.dtime = 0;
  inode.store_fields();
  fs.write_inode(inode);
  fs.edit_super().last_orphan = holder;
  fs.write_super(0);
  ScratchStore view(file);
  try {
    ext::bring_to_rest(view);
    ADD_FAILURE() << "it was removed";
  } catch (const Error& error) {
    EXPECT_TRUE(error.status() == Status::unsupported || error.status() == Status::refused)
        << error.what();
  }
}

// Blocks that nobody owns: where content has to move, all of it is looked at before.
TEST(GrowthThatMovesContent, AsksForAFullAuditBefore) {
  const TempFolder folder;
  const std::string image =
      make_ext(folder / "fs.img", 32 * mib, {"-b", "1024", "-O", "^resize_inode,^64bit"});
  const std::string sound = folder / "sound.img";
  files::copy_file(image, sound);
  {
    FileStore file(image, Access::read_write);
    ext::Filesystem fs(file);
    ext::Allocation allocation(fs);
    ASSERT_TRUE(allocation.allocate(1, fs.geometry().blocks / 2, {}));
    allocation.finish();
    fs.write_super(0);
  }
  ASSERT_EQ(words_of(audit_structure(image)), "");
  const auto grow = [](const std::string& path) {
    return juneheath({"grow", path, "--to", "700MiB"});
  };
  const std::uint32_t digest = file_digest(image);
  const ProgramResult refused = grow(image);
  EXPECT_EQ(refused.status, 4) << refused.out << refused.err;
  EXPECT_EQ(file_digest(image), digest);
  const ProgramResult done = grow(sound);
  EXPECT_EQ(done.status, 0) << done.err;
  EXPECT_TRUE(done.said("way")) << "the test needs a growth that moves content: " << done.out;
  EXPECT_EQ(check_ext(sound), "");
}

TEST(GptEdges, ASpareCopyAtTheEndOfAllNumbersIsADefectOfThatCopyOnly) {
  const TempFolder folder;
  unpack_sample("nestcam", folder / "n.img");
  for (const std::uint64_t lba :
       {(1ULL << 55) - 1, 1ULL << 55, 0xFFFFFFFFFFFFFFFFULL, 0x7FFFFFFFFFFFFFULL}) {
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

// What a growth builds on is looked at before it; what it writes anew need not have been right, and
// is damage to everybody else.
TEST(ExtEdge, ListsOfReservedBlocksAreRefusedWhereAGrowthBuildsOnThem) {
  const TempFolder folder;
  const std::string image = make_ext(folder / "fs", 64 * mib, {"-b", "1024"});
  std::uint64_t list = 0;
  std::uint64_t end = 0;
  {
    FileStore file(image, Access::read_only);
    const ext::Filesystem fs(file);
    const ext::Geometry& g = fs.geometry();
    list = g.offset(g.gdt_start(0) + g.desc_blocks + 2);
    end = 4 * g.backup_groups().size();
  }
  for (const std::uint64_t at : {list, list + end, list + 1020}) {
    SCOPED_TRACE(at - list);
    const std::string was = read_file(image).substr(at, 1);
    poke(image, at, was == "b" ? "c" : "b");
    expect_status(4, {"audit", image}, {"does not list its copies"});
    if (at < list + 512) expect_status(4, {"grow", image, "--by", "64MiB"});
    if (at < list + 512) poke(image, at, was);
  }
  succeeds({"grow", image, "--by", "64MiB"});
  EXPECT_EQ(check_ext(image), "");
  expect_status(0, {"audit", image});
}

// Its size is that of the last block that its lists name; for the checker as well.
TEST(ExtEdge, TheResizeInodeIsAsLongAsItsListsReach) {
  const MemoryStore whole = ext_image(64 * mib, {"-b", "1024"});
  for (const std::uint32_t size : {0U, 1U << 20, 1U << 30}) {
    SCOPED_TRACE(size);
    MemoryStore place(whole, "place");
    ext::Filesystem fs(place);
    ext::InodeRecord inode = fs.read_inode(ext::resize_ino);
    const bool is_enough = inode.size() <= size;
    inode.fields.size_lo = size;
    inode.fields.size_hi = 0;
    inode.store_fields();
    fs.write_inode(inode);
    const Verdicts both =
        verdicts_on(place, [](const std::string& path) { return check_ext(path); });
    EXPECT_EQ(both.checker.empty(), is_enough) << both.checker;
    EXPECT_EQ(both.found_here(), !is_enough) << both.audit.out;
  }
}

}  // namespace
}  // namespace jh::test

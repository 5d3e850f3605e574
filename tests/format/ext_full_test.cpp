// Filesystems whose descriptor table must become longer than was reserved while hardly a block is
// free, or while what is free lies in single blocks: what is in the way finds a place all the same.
#include "core/fs/ext/grow.h"
#include "core/store/file_store.h"
#include "support/ext_tools.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

// Files of a few blocks until nothing is free; of every `keep` files one is deleted again
// (none: 0), so that free blocks lie scattered.
void fill_up(const std::string& path, int deleted_of) {
  const Mounted mounted(path, 0, 0, true);
  std::mt19937 random(7);
  std::string content(24000, ' ');
  for (char& c : content) c = static_cast<char>(random());
  Words made;
  for (int i = 0; i < 200000; ++i) {
    if (i % 500 == 0) files::create_directory(mounted.path() + fmt::format("/box-{}", i / 500));
    const std::string name = mounted.path() + fmt::format("/box-{}/egg-{}", i / 500, i);
    std::ofstream file(name, std::ios::binary);
    file.write(content.data(), static_cast<std::streamsize>(1 + random() % content.size()));
    file.close();
    if (!file) break;
    made.push_back(name);
  }
  ASSERT_GT(made.size(), 1000U);
  if (deleted_of == 0) return;
  for (std::size_t i = 0; i < made.size(); i += static_cast<std::size_t>(deleted_of))
    files::remove(made[i]);
}

struct FullCase {
  const char* name;
  Words options;
  std::uint64_t size;  // MiB; descriptors of 32 bytes in blocks of 1 KiB: a block of them per 256
  int deleted_of;      // 0: not one block stays free
};

void PrintTo(const FullCase& test, std::ostream* out) { *out << test.name; }

class ExtFull : public testing::TestWithParam<FullCase> {};

TEST_P(ExtFull, GrowsPastItsDescriptors) {
  SKIP_UNLESS_TAKEN(3)
  if (!can_mount()) GTEST_SKIP() << "needs mounts";
  const TempFolder folder;
  const std::string path = folder / "fs";
  Words options = Words{"-b", "1024", "-m", "0", "-i", "4096"} + GetParam().options;
  make_ext(path, GetParam().size * mib, options, false);
  fill_up(path, GetParam().deleted_of);
  ASSERT_EQ(check_ext(path), "");
  const std::uint64_t wanted = 2100 * mib;
  {
    FileStore file(path, Access::read_only);
    ext::Filesystem fs(file);
    ASSERT_GT(ext::plan_grow(fs, wanted / 1024).descriptor_overrun(), 0U) << "nothing moves";
    if (GetParam().deleted_of == 0) {
      // With extents the kernel keeps a fiftieth back for itself.
      ASSERT_LT(fs.free_clusters(), fs.geometry().blocks / 50 + 30);
    }
  }
  const auto tree = ext_tree(path);
  grow_ext(path, wanted);
  EXPECT_EQ(check_ext(path), "");
  EXPECT_EQ(words_of(audit_ext(path)), "");
  EXPECT_EQ(tree_difference(tree, ext_tree(path)), "");
  EXPECT_EQ(files::file_size(path), wanted);
}

INSTANTIATE_TEST_SUITE_P(
    Cases, ExtFull,
    testing::Values(
        // The last block of the table has room for more groups: those take what must move.
        FullCase{"NotABlockFree", {"-O", "^resize_inode,^64bit"}, 96, 0},
        FullCase{"NotABlockFreeOldest",
                 {"-O", "^resize_inode,^64bit,^flex_bg,^sparse_super,^extents,^has_journal"},
                 96,
                 0},
        // The table is full to its last entry: what moves must find single blocks inside, and an
        // inode table those of files.
        FullCase{"Scattered", {"-O", "^resize_inode,^64bit"}, 256, 7},
        FullCase{
            "ScatteredInEachGroup", {"-O", "^resize_inode,^64bit,^flex_bg,^sparse_super"}, 256, 7},
        FullCase{"ScatteredOldest",
                 {"-O", "^resize_inode,^64bit,^flex_bg,^sparse_super,^extents,^has_journal"},
                 256,
                 7}),
    by_name);

}  // namespace
}  // namespace jh::test

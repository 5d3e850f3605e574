// Every field of the structures that growing and reading depend on, wrong in turn; and random bytes
// of each. Never a crash, a hang or a read past the end; a refusal is orderly and writes nothing.
#include "core/base/errors.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/ext.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/relocate.h"
#include "core/fs/ext/rest.h"
#include "core/guest/content.h"
#include "support/damage.h"
#include "support/ext_tools.h"
#include "support/test.h"

namespace jh::test {
namespace {

// Looks at the damaged filesystem in every way the program does. Returns whether growing it was
// refused.
bool look_everywhere(const MemoryStore& damaged_image) {
  MemoryStore image(damaged_image, "image");
  bool refused = false;
  const auto orderly = [&](const std::function<void()>& work) {
    try {
      work();
    } catch (const Error& error) {
      refused = true;
      EXPECT_NE(error.status(), Status::internal) << error.what();
      EXPECT_FALSE(std::string(error.what()).empty());
    }
  };
  const Content content = recognise_content(image);
  EXPECT_TRUE(image.same_content(damaged_image)) << "looking has written";
  orderly([&] {
    ext::Filesystem fs(image);
    std::uint64_t names = 0;
    ext::walk_tree(fs, [&](const std::string& path, const ext::InodeRecord&) {
      if (++names > 5000 || path.size() > 5000) refuse("enough");
    });
    Findings findings;
    ext::audit(fs, {}, findings, silent);
  });
  EXPECT_TRUE(image.same_content(damaged_image)) << "looking has written";
  refused = !content.blockers.empty() || !ext_in(content);
  if (refused) return true;
  orderly([&] {
    MemoryStore grown(image, "grown");
    grown.resize(image.size() * 2);
    if (content.replay()) ext::bring_to_rest(grown);
    const std::uint64_t blocks = grown.size() / ext::Filesystem(grown).geometry().block_size;
    ext::clear_table_way(grown, blocks, silent);
    ext::Filesystem fs(grown);
    ext::grow(fs, ext::plan_grow(fs, blocks));
  });
  return refused;
}

class ExtDamage : public testing::TestWithParam<Words> {
 protected:
  static MemoryStore made() {
    return ext_image(12ULL << 20, Words{"-b", "1024", "-J", "size=1", "-N", "512"} + GetParam());
  }
};

TEST_P(ExtDamage, EveryFieldInTurn) {
  MemoryStore image = made();
  std::vector<SpoiledPlace> targets;
  {
    ext::Filesystem fs(image);
    const auto& g = fs.geometry();
    const auto rings = ext::find_path(fs, "/rings");
    targets = {{"superblock", 1024, 1024},
               {"descriptors", g.offset(g.gdt_start(0)), g.group_count * g.desc_size},
               {"inode of a directory", fs.inode_offset(rings->ino), 160},
               {"inode of a file", fs.inode_offset(ext::find_path(fs, "/sparse.bin")->ino), 160},
               {"inode 7", fs.inode_offset(7), 128},
               {"inode 8", fs.inode_offset(8), 128},
               {"directory index",
                g.offset(std::max<std::uint64_t>(1, ext::find_block(fs, *rings, 0))), 96},
               {"directory block",
                g.offset(std::max<std::uint64_t>(1, ext::find_block(fs, *rings, 1))), 200}};
    ext::BlockVisitor visitor;
    visitor.data = [](const ext::MappedExtent&) { return true; };
    visitor.tree = [&](std::uint64_t block) {
      targets.push_back({"block list", g.offset(block), 120});
      return true;
    };
    ext::visit_blocks(fs, *ext::find_path(fs, "/film.bin"), visitor);
  }
  constexpr std::uint64_t stride = is_sanitized ? 14 : 4;
  const auto takes = [](std::uint64_t at, int change) {
    return at % stride < 4 && (stride == 4 || change != 1);
  };
  spoil_each_byte(image, targets, takes, look_everywhere);
}

TEST_P(ExtDamage, RandomBytes) {
  const MemoryStore image = made();
  std::mt19937 random(20261123);
  constexpr int rounds = is_sanitized ? 60 : 600;
  // Most metadata lies in the first megabyte.
  const auto place = [&] { return 1024 + random() % ((1U << 20) - 2048); };
  spoil_at_random(image, rounds, random, place, look_everywhere);
}

INSTANTIATE_TEST_SUITE_P(Kinds, ExtDamage,
                         testing::Values(Words{}, Words{"-O", "^metadata_csum"},
                                         Words{"-t", "ext2"},
                                         Words{"-O", "^metadata_csum,^resize_inode,inline_data"}));

// Every byte of the journal's superblock and of the log's first blocks in the sample that lost
// power.
TEST(JournalDamage, EveryFieldInTurn) {
  const TempFolder folder;
  unpack_sample("dirty-ext4", folder / "guest.img");
  MemoryStore disk = load(folder / "guest.img");
  MemoryStore image(disk.size() - 1048576);
  for (std::uint64_t at = 0; at < image.size();) {
    const auto part = disk.map(1048576 + at, std::min<std::uint64_t>(4096, image.size() - at));
    if (!part.zero) image.write(at, read_buffer(disk, 1048576 + at, part.length));
    at += part.length;
  }
  std::uint64_t journal = 0;
  {
    ext::Filesystem fs(image);
    journal = fs.geometry().offset(ext::find_block(fs, fs.read_inode(8), 0));
  }
  constexpr std::uint64_t stride = is_sanitized ? 29 : 3;
  int refused = 0;
  for (std::uint64_t at = 0; at < 4096; at += at < 128 ? 1 : stride) {
    MemoryStore damaged_image(image, "image");
    Buffer byte = read_buffer(damaged_image, journal + at, 1);
    byte[0] ^= 0x11;
    damaged_image.write(journal + at, byte);
    SCOPED_TRACE(fmt::format("journal byte {}", at));
    const Content content = recognise_content(damaged_image);
    if (!content.blockers.empty()) ++refused;
  }
  EXPECT_GT(refused, 20);
}

}  // namespace
}  // namespace jh::test

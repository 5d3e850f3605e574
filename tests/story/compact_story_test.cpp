// The same disk in a smaller file, through the built program. The measure is a new image of the
// same form into which only what survives is written.
#include "core/guest/unused.h"
#include "support/same_guest.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {
namespace {

constexpr std::uint64_t survivor_at = 1048576;  // of the sample's only partition

struct Case {
  const char* format;
  const char* store;
};
void PrintTo(const Case& item, std::ostream* out) { *out << item.format << " " << item.store; }

class Compact : public testing::TestWithParam<Case> {};

TEST_P(Compact, GivesBackWhatWasDeleted) {
  SKIP_UNLESS_TAKEN(3)
  if (!can_mount()) GTEST_SKIP() << "needs loop mounts";
  const Case& item = GetParam();
  const bool is_raw = std::string(item.format) == "raw";
  const TempFolder folder;
  const std::string raw = unpack_sample("heather", folder / "guest.img");
  ASSERT_GT(fill_and_delete(raw, survivor_at), 400U);
  const auto tree = tree_facts(Mounted(raw, survivor_at).path());
  const std::string image = folder / ("guest." + std::string(item.format));
  if (is_raw)
    run({"cp", "--sparse=never", raw, image});
  else
    succeeds({"recast", raw, image, "--form", item.format, "--store", item.store});
  const std::uint64_t full = is_raw ? allocated(image) : files::file_size(image);
  EXPECT_GT(full, 100U << 20);

  // What would be ideal: only what survives, in a new image.
  const std::string survivors = folder / "survivors.img";
  succeeds({"compact", raw, "--into", survivors, "--quiet"});
  EXPECT_EQ(check_ext(survivors, survivor_at), "");
  EXPECT_EQ(tree_difference(tree, tree_facts(Mounted(survivors, survivor_at).path())), "");
  const std::string ideal = folder / ("ideal." + std::string(item.format));
  succeeds({"recast", survivors, ideal, "--form", item.format, "--store", item.store});
  const std::uint64_t best = is_raw ? allocated(ideal) : files::file_size(ideal);

  const std::string into = folder / ("into." + std::string(item.format));
  const std::uint32_t digest = file_digest(image);
  succeeds({"compact", image, "--into", into, "--quiet"});
  EXPECT_EQ(file_digest(image), digest);
  EXPECT_LE(is_raw ? allocated(into) : files::file_size(into), best * 103 / 100);

  const ProgramResult planned = succeeds({"compact", image, "--dry-run", "--json"});
  EXPECT_EQ(file_digest(image), digest);
  const ProgramResult done = succeeds({"compact", image, "--yes"}, {"free blocks of /"});
  expect_status(0, {"audit", image});
  const std::uint64_t now = is_raw ? allocated(image) : files::file_size(image);
  std::uint64_t best_in_place = best;
  if (std::string(item.store) == "packed") {
    // A block that survives in part stays as it is, and compresses less well for it.
    const std::string same = folder / "same.qcow2";
    succeeds({"recast", image, same, "--store", "packed"});
    best_in_place = files::file_size(same);
    EXPECT_LT(best_in_place, best * 6 / 5);
  }
  EXPECT_LE(now, best_in_place * 103 / 100) << full;
  if (!is_raw) {
    // Zeros in what is used are found when it is done.
    const std::uint64_t at_most = nlohmann::json::parse(planned.out)["images"][0]["length_after"];
    EXPECT_GE(at_most, now);
    EXPECT_LE(at_most, now + now / 20);
  }
  const std::string copy = folder / "copy.img";
  for (const std::string& result : {image, into}) {
    recast_raw(result, copy);
    EXPECT_EQ(check_ext(copy, survivor_at), "");
    EXPECT_EQ(tree_difference(tree, tree_facts(Mounted(copy, survivor_at).path())), "");
  }
  // And it can grow again.
  succeeds({"grow", image, "--to", "512MiB"});
  recast_raw(image, copy);
  EXPECT_EQ(check_ext(copy, survivor_at), "");
  EXPECT_EQ(tree_difference(tree, tree_facts(Mounted(copy, survivor_at).path())), "");
}

INSTANTIATE_TEST_SUITE_P(Forms, Compact,
                         testing::Values(Case{"raw", "sparse"}, Case{"qcow2", "sparse"},
                                         Case{"vdi", "sparse"}, Case{"vmdk", "sparse"},
                                         Case{"vhd", "sparse"}, Case{"vhdx", "sparse"},
                                         Case{"qcow2", "packed"}),
                         [](const auto& test) {
                           const bool compressed = test.param.store == std::string("packed");
                           return test.param.format + std::string(compressed ? "_packed" : "");
                         });

TEST(CompactOf, AFullImageIsRefused) {
  const TempFolder folder;
  const std::string raw = unpack_sample("heather", folder / "guest.img");
  const std::string image = folder / "guest.vhd";
  succeeds({"recast", raw, image, "--store", "full"});
  expect_status(3, {"compact", image, "--yes"}, {"--store sparse"});
}

// Of much that is used a part is read for zeros. 16 units in a row are found wherever they are, and
// then each other one; a single unit may be missed, and the command says how it looked.
TEST(CompactOf, MuchThatIsUsedIsAskedForZerosFirst) {
  const TempFolder folder;
  const std::string image = folder / "moor.img";
  std::mt19937_64 random{seed_of_run()};
  constexpr std::uint64_t page = 4096;
  Buffer content(20'000 * page);  // of no kind that is known
  for (std::size_t at = 0; at < content.size(); at += 8) put_at(content, at, Le64(random() | 1));
  const auto zero = [&](std::uint64_t first, std::uint64_t pages) {
    std::fill_n(content.begin() + static_cast<std::ptrdiff_t>(first * page), pages * page, 0);
  };
  const auto compacted = [&] {
    write_file(image, std::string(content.begin(), content.end()));
    const ProgramResult done = expect_status(0, {"compact", image, "--yes"});
    return done;
  };
  zero(3 + random() % 1000 * 16, 1);  // none of those that are read first
  const ProgramResult missed = compacted();
  EXPECT_TRUE(missed.said("one block of 16")) << missed.out;
  EXPECT_EQ(allocated(image), content.size());
  zero(1 + random() % 19'000, 16);
  std::uint64_t zeros = 0;
  for (std::size_t at = 0; at < content.size(); at += page)
    if (all_zero(ConstByteSpan(content).subspan(at, page))) ++zeros;
  const ProgramResult found = compacted();
  EXPECT_FALSE(found.said("one block of 16")) << found.out;
  EXPECT_EQ(allocated(image), content.size() - zeros * page);
  EXPECT_EQ(read_file(image), std::string(content.begin(), content.end()));
}

// Volumes over two disks, in stripes too: each disk gives back what is its own.
TEST(CompactOf, AGroupOverTwoDisks) {
  const TempFolder folder;
  const std::string a = folder / "a.img";
  const std::string b = folder / "b.img";
  unpack_sample("two-disk-a", a);
  unpack_sample("two-disk-b", b);
  succeeds({"audit", a, b});
  succeeds({"compact", a, b, "--yes", "--zero-free"}, {"free blocks"});
  expect_status(0, {"audit", a, b});
}

// What is free on the second disk stands in filesystems that have parts on the first one, where
// compacting has moved them meanwhile.
TEST(CompactOf, AGroupOverTwoDisksThatAreFullOfOldContent) {
  const TempFolder folder;
  const Words raw{folder / "a.raw", folder / "b.raw"};
  unpack_sample("two-disk-a", raw[0]);
  unpack_sample("two-disk-b", raw[1]);
  {
    std::vector<std::unique_ptr<FileStore>> stores;
    std::vector<Guest::Image> images;
    for (const std::string& path : raw) {
      stores.push_back(std::make_unique<FileStore>(path, Access::read_write));
      images.push_back({path, stores.back().get()});
    }
    const Guest guest(images);
    for (std::size_t i = 0; i < raw.size(); ++i)
      for (const UnusedRange& range : find_unused(guest, i).ranges)
        stores[i]->write(range.start,
                         Buffer(std::min<std::uint64_t>(range.end - range.start, 3U << 20),
                                static_cast<std::uint8_t>(0x60 + i)));
  }
  FileHost host;
  const std::string files = what_the_guests_disks_hold(host, raw);
  for (const std::string format : {"qcow2", "vdi"}) {
    SCOPED_TRACE(format);
    Words images;
    for (const std::string& path : raw) {
      images.push_back(path + "." + format);
      succeeds({"recast", path, images.back(), "--quiet"});
    }
    const ProgramResult done = succeeds({"compact", images[0], images[1], "--yes", "--json"});
    for (const auto& image : nlohmann::json::parse(done.out)["images"])
      EXPECT_LT(image["length_after"].get<std::uint64_t>(),
                image["length_before"].get<std::uint64_t>() * 3 / 4);
    EXPECT_TRUE(what_the_guests_disks_hold(host, images) == files) << format;
    EXPECT_EQ(checker_says(host, images), "");
  }
}

}  // namespace
}  // namespace jh::test

// Swap areas outside of volumes: in a partition and on a whole disk, of every page size and byte
// order, through the built program. The judge is the system's own maker of swap areas: what grew
// must be what it makes at that size.
#include <ostream>

#include "support/test.h"

namespace jh::test {
namespace {

struct SwapCase {
  std::string name;
  std::string page_size;
  bool big_endian;
  bool partition;
};

void PrintTo(const SwapCase& kind, std::ostream* out) { *out << kind.name; }

class SwapAlone : public testing::TestWithParam<SwapCase> {
 protected:
  static constexpr std::uint64_t start = 1U << 20;

  void make_area(const std::string& path, std::uint64_t size) const {
    make_sparse_file(path, size);
    const ProgramResult made = run({"mkswap", "-p", GetParam().page_size, "-L", "spare", "-U",
                                    "0d5e7c1a-3b52-4a34-9f0c-6a8d2a1e4711", path});
    ASSERT_EQ(made.status, 0) << made.err;
    if (!GetParam().big_endian) return;
    // The maker writes its machine's byte order; the other one differs in three words.
    std::string words = read_file(path).substr(1024, 12);
    for (std::size_t word = 0; word < words.size(); word += 4)
      std::reverse(words.begin() + static_cast<std::ptrdiff_t>(word),
                   words.begin() + static_cast<std::ptrdiff_t>(word + 4));
    poke(path, 1024, words);
  }
  // The bytes of an area, in front of which an MBR with one partition may lie.
  void put_on_disk(const std::string& area) const {
    const std::string content = read_file(area);
    if (!GetParam().partition) {
      write_file(image_, content);
      return;
    }
    make_sparse_file(image_, start + content.size());
    const auto sectors = static_cast<std::uint32_t>(content.size() / 512);
    std::string entry("\0\xfe\xff\xff\x82\xfe\xff\xff\0\x08\0\0", 12);
    for (int shift = 0; shift < 32; shift += 8) entry += static_cast<char>(sectors >> shift & 0xff);
    poke(image_, 446, entry);
    poke(image_, 510, "\x55\xaa");
    poke(image_, start, content);
  }

  TempFolder folder_;
  std::string image_ = folder_ / "guest.img";
};

TEST_P(SwapAlone, GrowsToWhatTheSystemWouldMake) {
  const std::string small = folder_ / "small";
  const std::string large = folder_ / "large";
  make_area(small, 32U << 20);
  make_area(large, 80U << 20);
  put_on_disk(small);
  const std::uint32_t before = file_digest(image_);
  succeeds({"grow", image_, "--by", "48MiB", "--give", GetParam().partition ? "p1" : "disk"});
  EXPECT_EQ(read_file(image_).substr(GetParam().partition ? start : 0), read_file(large));
  expect_status(0, {"audit", image_});
  expect_status(0, {"undo", image_});
  EXPECT_EQ(file_digest(image_), before);
}

TEST_P(SwapAlone, ASuspendedSystemIsRefused) {
  const std::string area = folder_ / "area";
  make_area(area, 32U << 20);
  const std::uint64_t signature = std::stoull(GetParam().page_size) - 10;
  poke(area, signature, std::string("S1SUSPEND\0", 10));
  put_on_disk(area);
  expect_status(3,
                {"grow", image_, "--by", "48MiB", "--give", GetParam().partition ? "p1" : "disk"},
                {"suspended"});
}

INSTANTIATE_TEST_SUITE_P(Kinds, SwapAlone,
                         testing::Values(SwapCase{"Usual", "4096", false, true},
                                         SwapCase{"UsualOnADisk", "4096", false, false},
                                         SwapCase{"BigEndian", "4096", true, true},
                                         SwapCase{"LargePages", "65536", false, true},
                                         SwapCase{"LargePagesBigEndian", "16384", true, false}),
                         by_name);

}  // namespace
}  // namespace jh::test

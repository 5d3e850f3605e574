// Images whose headers and tables lie: each byte in turn, and random ones. Nothing may be written,
// nothing may crash, and no number from disk may cost memory or time.
#include "core/container/qcow2/qcow2.h"
#include "support/containers.h"
#include "support/test.h"

namespace jh::test {
namespace {

// A small disk with something in it.
std::unique_ptr<MemoryImage> sample(const Kind& kind) {
  auto image = new_image(wanted(kind, kind.in_pieces ? 3ULL << 30 : 16U << 20));
  if (kind.format == ImageFormat::qcow2) {
    // Small clusters: as many kinds of tables in less room.
    image->main->resize(0);
    qcow2::create(*image->main, 16U << 20, {12, 4, false, 3, false});
    image->open();
  }
  image->container->make_ready();
  for (const std::uint64_t at : {0ULL, 3ULL << 20, 9ULL << 20})
    image->container->disk().write(at, Buffer(5000, 0x5a));
  image->open();
  return image;
}

// Opens, describes, reads and audits; only an Error may come of it.
// Returns whether the damage was noticed, by an error or a finding.
bool look_at(Store& file, FileResolver& files) {
  try {
    const auto container = open_container(file, &files);
    container->facts();
    Findings findings;
    container->audit(findings);
    Buffer bytes(4096);
    const std::uint64_t size = container->disk().size();
    for (std::uint64_t at = 0; at < std::min<std::uint64_t>(size, 16U << 20); at += 1U << 20)
      container->disk().read(at, ByteSpan(bytes).first(std::min<std::uint64_t>(4096, size - at)));
    return !findings.clean();
  } catch (const Error& error) {
    EXPECT_NE(error.status(), Status::internal) << error.what();
    return true;
  }
}

class ContainerDamage : public testing::TestWithParam<Kind> {};

TEST_P(ContainerDamage, EveryByteOfTheHeadersAndTables) {
  const auto image = sample(GetParam());
  ASSERT_FALSE(look_at(*image->main, image->files));
  std::uint64_t tried = 0;
  std::uint64_t noticed = 0;
  const std::uint64_t length = image->main->size();
  for (std::uint64_t at = 0; at < length;) {
    const auto run = image->main->map(at, length - at);
    if (run.zero) {
      at += run.length;
      continue;
    }
    // Data of the guest fills whole pages; headers and tables are at most this dense.
    const Buffer page = read_buffer(*image->main, at, std::min<std::uint64_t>(512, length - at));
    const bool data = std::all_of(page.begin(), page.end(), [](auto b) { return b == 0x5a; });
    for (std::uint64_t i = 0; i < page.size() && !data; i += stride_of(11)) {
      // Tables are mostly zeros: some of those will do.
      if (at + i >= 4096 && page[i] == 0 && (at + i) % 97 != 0) continue;
      for (const std::uint8_t value :
           {std::uint8_t{0xff}, std::uint8_t{0}, std::uint8_t(page[i] ^ 1)}) {
        if (value == page[i]) continue;
        image->main->write(at + i, {&value, 1});
        noticed += look_at(*image->main, image->files) ? 1 : 0;
        ++tried;
      }
      image->main->write(at + i, {&page[i], 1});
    }
    at += page.size();
  }
  fmt::print("  {} changes, {} noticed\n", tried, noticed);
  EXPECT_FALSE(look_at(*image->main, image->files));
  if (GetParam().format != ImageFormat::raw) {
    EXPECT_GT(noticed, tried / 100);
  }
}

TEST_P(ContainerDamage, RandomBytesAndACutOffFile) {
  std::mt19937 random(20261123);
  const auto image = sample(GetParam());
  const MemoryStore whole(*image->main, "/moor/guest.img");
  for (int round = 0; round < 200; ++round) {
    image->main->assign(whole);
    for (int i = 0; i < 8; ++i) {
      const auto value = static_cast<std::uint8_t>(random());
      const std::uint64_t reach = std::min<std::uint64_t>(whole.size(), 1U << (10 + random() % 12));
      image->main->write(random() % reach, {&value, 1});
    }
    look_at(*image->main, image->files);
  }
  for (std::uint64_t length = 0; length < whole.size();
       length += 1 + random() % (whole.size() / 60 + 1)) {
    image->main->assign(whole);
    image->main->resize(length);
    look_at(*image->main, image->files);
  }
}

INSTANTIATE_TEST_SUITE_P(Forms, ContainerDamage, testing::ValuesIn(kinds()), by_name);

TEST(ContainerDamage, TablesThatClaimMuchCostNothing) {
  // An L1 table of four thousand million entries, and clusters that all share one table.
  const auto image = new_image(wanted(kinds()[1], 1ULL << 40));
  const Be32 many(0xffffffff);
  const Buffer before = read_buffer(*image->main, 36, 4);
  image->main->write(36, bytes_of(many));
  EXPECT_TRUE(look_at(*image->main, image->files));
  image->main->write(36, before);
  const auto l1 = read_as<Be64>(*image->main, 40).value();
  image->container->make_ready();
  image->container->disk().write(0, Buffer(4096, 1));
  const Buffer entry = read_buffer(*image->main, l1, 8);
  for (std::uint64_t i = 1; i < 2048; ++i) image->main->write(l1 + i * 8, entry);
  EXPECT_TRUE(look_at(*image->main, image->files));
}

TEST(ContainerDamage, AQcow2ImageMarkedAsCorruptIsRefused) {
  const auto image = new_image(wanted(kinds()[1], 16U << 20));
  image->main->write(72, bytes_of(Be64(qcow2::incompatible::corrupt)));
  expect_error(Status::refused, "corrupt", [&] { open_container(*image->main, &image->files); });
  image->main->write(72, bytes_of(Be64(1ULL << 40)));
  expect_error(Status::unsupported, "", [&] { open_container(*image->main, &image->files); });
}

}  // namespace
}  // namespace jh::test

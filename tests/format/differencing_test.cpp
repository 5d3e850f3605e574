// Differencing images and images with their data in another file, put together here field by field
// from the published layouts: what is here is read here, the rest in the parent.
#include "cli/terminal.h"
#include "core/base/checksum.h"
#include "core/container/qcow2/header.h"
#include "core/container/qcow2/qcow2.h"
#include "core/container/qcow2/refcounts.h"
#include "core/container/vdi/vdi.h"
#include "core/container/vhd/vhd.h"
#include "core/container/vhdx/vhdx.h"
#include "support/children.h"
#include "support/containers.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::uint64_t chain_disk = 16U << 20;

// A parent that holds 0x11 in its first 4 MiB, and an empty child beside it.
class Differencing : public testing::Test {
 protected:
  MemoryStore& parent(ImageFormat format) {
    MemoryStore& file = files_.create("/moor/parent.img");
    NewContainer made = wanted({"", format, Allocation::sparse}, chain_disk);
    create_container(file, made, &files_);
    const auto container = open_container(file, &files_);
    container->disk().write(0, Buffer(4U << 20, 0x11));
    return file;
  }
  MemoryStore& child(ImageFormat format) {
    MemoryStore& file = files_.create("/moor/child.img");
    NewContainer made = wanted({"", format, Allocation::sparse}, chain_disk);
    made.id[0] = 99;
    create_container(file, made, &files_);
    return file;
  }
  std::uint8_t byte_at(std::uint64_t offset) {
    const auto container = open_container(*files_.part("/moor/child.img"), &files_);
    return read_buffer(container->disk(), offset, 1)[0];
  }
  ContainerFacts facts() {
    return open_container(*files_.part("/moor/child.img"), &files_)->facts();
  }
  // `one_size`: the form asks for a child of its parent's size, so that it is left alone.
  void expect_chain(bool one_size = true) {
    const ContainerFacts found = facts();
    EXPECT_EQ(found.parents, std::vector<std::string>{"/moor/parent.img"});
    ASSERT_EQ(found.blockers.size(), one_size ? 1U : 0U);
    if (one_size) {
      EXPECT_THAT(found.blockers[0].what(), HasSubstr("builds on"));
    }
    EXPECT_FALSE(parent_paths(*files_.part("/moor/child.img"), files_).empty());
  }
  void expect_refused(const std::string& words) {
    const Error error = expect_error(
        Status::refused, "", [&] { open_container(*files_.part("/moor/child.img"), &files_); });
    EXPECT_THAT(error.what() + error.where() + cli::text_of(error.next()), HasSubstr(words))
        << error.what();
  }

  MemoryFileResolver files_;
};

TEST_F(Differencing, Vdi) {
  MemoryStore& below = parent(ImageFormat::vdi);
  MemoryStore& file = child(ImageFormat::vdi);
  make_child_of(file, below, ImageFormat::vdi, "");
  const auto header = read_as<vdi::Header>(file, 0);
  const auto theirs = read_as<vdi::Header>(below, 0);
  EXPECT_EQ(byte_at(5000), 0x11);
  EXPECT_EQ(byte_at(5U << 20), 0);
  // A block that is zero here, whatever the parent has.
  file.write(header.map_offset.value(), bytes_of(Le32(vdi::entry_zero)));
  EXPECT_EQ(byte_at(5000), 0);
  EXPECT_EQ(byte_at((1U << 20) + 5000), 0x11);
  expect_chain();
  // The parent went on by itself since.
  auto changed = theirs;
  changed.modified[3] ^= 1;
  below.write(0, bytes_of(changed));
  Findings findings;
  open_container(file, &files_)->audit(findings);
  EXPECT_EQ(findings.count(), 1U);
  changed.id[3] ^= 1;
  below.write(0, bytes_of(changed));
  expect_refused("not in its folder");
}

TEST_F(Differencing, Vhd) {
  MemoryStore& below = parent(ImageFormat::vhd);
  MemoryStore& file = child(ImageFormat::vhd);
  make_child_of(file, below, ImageFormat::vhd, "parent.img");
  const auto theirs = read_as<vhd::Footer>(below, 0);
  // One block, of which only sectors 8 to 15 are here.
  const std::uint64_t block = file.size() - 512;
  const auto table = read_as<vhd::Header>(file, 512).table_offset.value();
  file.resize(block + 512 + (2U << 20) + 512);
  file.write(block, Buffer(512));
  file.write(table, bytes_of(Be32(static_cast<std::uint32_t>(block / 512))));
  const std::uint8_t bits = 0xff;
  file.write(block + 1, {&bits, 1});
  file.write(block + 512, Buffer(2U << 20, 0x22));
  file.write(file.size() - 512, bytes_of(read_as<vhd::Footer>(file, 0)));
  EXPECT_EQ(byte_at(0), 0x11);
  EXPECT_EQ(byte_at(4095), 0x11);
  EXPECT_EQ(byte_at(4096), 0x22);
  EXPECT_EQ(byte_at(8191), 0x22);
  EXPECT_EQ(byte_at(8192), 0x11);
  expect_chain();
  auto other = theirs;
  other.id[0] ^= 1;
  other.checksum = vhd::checksum_of(other);
  below.write(0, bytes_of(other));
  below.write(below.size() - 512, bytes_of(other));
  expect_refused("expects the identity");
}

TEST_F(Differencing, Vhdx) {
  MemoryStore& below = parent(ImageFormat::vhdx);
  MemoryStore& file = child(ImageFormat::vhdx);
  make_child_of(file, below, ImageFormat::vhdx, "parent.img");
  vhdx::Structure s;
  vhdx::read_headers(file, s);
  vhdx::read_tables(file, s);
  // Block 0 is here in part: sectors 8 to 15; block 1 is zero here.
  const std::uint64_t block = file.size();
  file.resize(block + s.block_size + vhdx::unit);
  file.write(block, Buffer(s.block_size, 0x22));
  const std::uint8_t bits = 0xff;
  file.write(block + s.block_size + 1, {&bits, 1});
  file.write(s.bat.offset, bytes_of(Le64(block | 7)));
  file.write(s.bat.offset + 8, bytes_of(Le64(2)));
  file.write(s.bat.offset + s.chunk_ratio() * 8, bytes_of(Le64((block + s.block_size) | 6)));
  EXPECT_EQ(byte_at(0), 0x11);
  EXPECT_EQ(byte_at(4095), 0x11);
  EXPECT_EQ(byte_at(4096), 0x22);
  EXPECT_EQ(byte_at(8192), 0x11);
  EXPECT_EQ(byte_at(s.block_size + 10), 0);
  expect_chain();
  EXPECT_EQ(audited(*open_container(file, &files_)), "");
  open_container(below, &files_)->make_ready();  // a change of the parent: new identities
  expect_refused("was changed since");
}

TEST_F(Differencing, Qcow2ThatIsSmallerThanItsParentOrLarger) {
  MemoryStore& below = parent(ImageFormat::qcow2);
  MemoryStore& file = files_.create("/moor/child.img");
  qcow2::create(file, 24U << 20, {});
  make_child_of(file, below, ImageFormat::qcow2, "parent.img");
  EXPECT_EQ(byte_at(4095), 0x11);
  EXPECT_EQ(byte_at(20U << 20), 0) << "past the parent's end";
  expect_chain(/*one_size=*/false);
  // Writing brings the rest of the cluster along; what is dropped hides the parent.
  const auto container = open_container(file, &files_);
  container->make_ready();
  container->disk().write(1000, Buffer(10, 0x33));
  container->disk().discard(1U << 20, 65536);
  EXPECT_EQ(byte_at(999), 0x11);
  EXPECT_EQ(byte_at(1000), 0x33);
  EXPECT_EQ(byte_at(1010), 0x11);
  EXPECT_EQ(byte_at(1U << 20), 0);
  EXPECT_EQ(byte_at((1U << 20) + 65536), 0x11);
  EXPECT_EQ(audited(*container), "");
}

TEST_F(Differencing, Qcow2WithItsDataInAnotherFile) {
  MemoryStore& file = files_.create("/moor/child.img");
  qcow2::create(file, chain_disk, {});
  auto header = read_as<qcow2::Header>(file, 0);
  header.incompatible = qcow2::incompatible::external_data;
  header.autoclear = qcow2::autoclear::raw_external;
  file.write(0, bytes_of(header));
  const std::string name = "data.raw";
  qcow2::Extension extension{};
  extension.type = qcow2::extension::data_file;
  extension.length = static_cast<std::uint32_t>(name.size());
  file.write(112, bytes_of(extension));
  file.write(120, {reinterpret_cast<const std::uint8_t*>(name.data()), name.size()});
  expect_refused("data.raw");
  MemoryStore& data = files_.create("/moor/data.raw");
  data.resize(chain_disk);
  const auto container = open_container(file, &files_);
  EXPECT_EQ(container->facts().parts, std::vector<std::string>{"/moor/data.raw"});
  container->make_ready();
  container->disk().write(0, Buffer(70000, 0x44));
  container->disk().write(9U << 20, Buffer(70000, 0x55));
  container->grow(Bytes(32U << 20));
  container->disk().write(31U << 20, Buffer(10, 0x66));
  EXPECT_EQ(byte_at(69999), 0x44);
  EXPECT_EQ(byte_at(9U << 20), 0x55);
  EXPECT_EQ(read_buffer(data, 31U << 20, 1)[0], 0x66) << "each byte lies where it lies on the disk";
  EXPECT_EQ(data.size(), 32U << 20);
  EXPECT_EQ(audited(*open_container(file, &files_)), "");
}

TEST_F(Differencing, Qcow2ExtensionsStay) {
  MemoryStore& file = files_.create("/moor/child.img");
  qcow2::create(file, chain_disk, {});
  qcow2::Extension unknown{};
  unknown.type = 0x4a756e65;
  unknown.length = 5;
  file.write(112, bytes_of(unknown));
  const Buffer text{'p', 'l', 'o', 'v', 'e'};
  file.write(120, text);
  auto header = read_as<qcow2::Header>(file, 0);
  header.autoclear = 1U << 7;
  file.write(0, bytes_of(header));
  const auto container = open_container(file, &files_);
  container->make_ready();
  container->grow(Bytes(200ULL << 30));
  EXPECT_EQ(read_as<qcow2::Header>(file, 0).autoclear.value(), 0U);
  EXPECT_EQ(read_buffer(file, 120, 5), text);
}

// One that is kept up, one that was closed: each with a cluster of bits, in blocks of 512 bytes, so
// that 256 MiB of the disk have one entry of a bitmap's table.
TEST_F(Differencing, Qcow2BitmapsOfChangedBlocksGetTheDisksSize) {
  constexpr std::uint64_t cluster = 65536;
  constexpr std::uint64_t reach = cluster * 8 * 512;
  MemoryStore& file = files_.create("/moor/child.img");
  qcow2::create(file, reach + chain_disk, {});
  qcow2::Extension extension{};
  extension.type = qcow2::extension::bitmaps;
  extension.length = sizeof(qcow2::BitmapsExtension);
  file.write(112, bytes_of(extension));
  std::uint64_t at = 0;
  {
    qcow2::Image image = qcow2::read_header(file);
    at = qcow2::Refcounts(file, image).allocate(5);
    qcow2::write_header(file, image);
  }
  const std::string names[] = {"nightly", "weekly"};
  std::uint64_t entry_at = at;
  std::vector<std::uint64_t> entries;
  for (std::uint64_t i = 0; i < 2; ++i) {
    qcow2::BitmapEntry entry{};
    entry.table_offset = at + (1 + i) * cluster;
    entry.table_size = 2;
    entry.flags = i == 0 ? qcow2::bitmap_flag::automatic : 0;
    entry.type = 1;
    entry.granularity_bits = 9;
    entry.name_size = static_cast<std::uint16_t>(names[i].size());
    file.write(entry_at, bytes_of(entry));
    file.write(entry_at + sizeof(entry),
               {reinterpret_cast<const std::uint8_t*>(names[i].data()), names[i].size()});
    entries.push_back(entry_at);
    entry_at += round_up(sizeof(entry) + names[i].size(), 8);
    // Blocks in front of 256 MiB have changed here and there, those behind not at all.
    file.write(at + (1 + i) * cluster, bytes_of(Be64(i == 0 ? 0 : at + 3 * cluster)));
    file.write(at + (1 + i) * cluster + 8, bytes_of(Be64(i == 0 ? at + 4 * cluster : 0)));
  }
  file.write(at + 3 * cluster, Buffer(cluster, 0x5a));
  file.write(at + 4 * cluster, Buffer(cluster, 0xa5));
  qcow2::BitmapsExtension bitmaps{};
  bitmaps.bitmaps = 2;
  bitmaps.directory_offset = at;
  bitmaps.directory_size = entry_at - at;
  file.write(120, bytes_of(bitmaps));
  auto header = read_as<qcow2::Header>(file, 0);
  header.autoclear = qcow2::autoclear::bitmaps;
  file.write(0, bytes_of(header));
  const auto finds = [&] { return audited(*open_container(file, &files_)); };
  const auto table = [&](std::size_t i) {
    const auto entry = read_as<qcow2::BitmapEntry>(file, entries[i]);
    std::vector<std::uint64_t> all;
    for (std::uint64_t k = 0; k < entry.table_size.value(); ++k)
      all.push_back(read_as<Be64>(file, entry.table_offset.value() + k * 8).value());
    return all;
  };
  const auto change = [&](auto work) {
    const auto container = open_container(file, &files_);
    container->make_ready();
    work(*container);
    EXPECT_EQ(finds(), "");
  };
  ASSERT_EQ(finds(), "");
  const std::uint64_t kept = table(1)[0];
  for (const std::uint64_t size : {3 * reach, 12288 * reach}) {
    change([&](Container& container) { container.grow(Bytes(size)); });
    EXPECT_EQ(table(0), std::vector<std::uint64_t>(size / reach, qcow2::all_ones));
    std::vector<std::uint64_t> closed(size / reach);
    closed[0] = kept;
    EXPECT_EQ(table(1), closed);
  }
  change([&](Container& container) { container.shrink(Bytes(chain_disk)); });
  EXPECT_EQ(table(0), std::vector<std::uint64_t>{qcow2::all_ones});
  // Of the closed one's cluster the bits of the disk that is left stay.
  const Buffer bits = read_buffer(file, table(1).at(0), cluster);
  const auto behind = bits.begin() + chain_disk / 512 / 8;
  EXPECT_EQ(Buffer(bits.begin(), behind), Buffer(chain_disk / 512 / 8, 0x5a));
  EXPECT_TRUE(std::all_of(behind, bits.end(), [](std::uint8_t byte) { return byte == 0; }));
  // A table that says more than the disk has is not believed.
  file.write(entries[1] + offsetof(qcow2::BitmapEntry, table_size), bytes_of(Be32(2)));
  EXPECT_THROW(open_container(file, &files_)->make_ready(), Error);
}

}  // namespace
}  // namespace jh::test

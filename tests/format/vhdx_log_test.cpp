// Logs of VHDX images that were not closed: entries written here by the published layout are
// replayed in reading and before a change; torn ones end the sequence.

#include "core/base/checksum.h"
#include "core/container/vhdx/vhdx.h"
#include "support/containers.h"
#include "support/test.h"

namespace jh::test {
namespace {

using namespace vhdx;

constexpr Uuid log_id{9, 9, 9, 9, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12};
constexpr std::uint64_t logged_disk = 16U << 20;

class VhdxLog : public testing::Test {
 protected:
  void SetUp() override {
    Kind kind{"Vhdx", ImageFormat::vhdx, Allocation::sparse};
    image_ = new_image(wanted(kind, logged_disk));
    image_->container->make_ready();
    image_->container->disk().write(0, Buffer(65536, 0x11));
    image_->open();
    // The first block's data, and the log's place, as the headers say.
    data_ = image_->container->extent_at(0, 1).at;
    Structure structure;
    header_ = read_headers(*image_->main, structure);
    log_ = header_.log_offset.value();
    log_length_ = header_.log_length.value();
  }

  // An entry at `at` of the log: sectors of `value` at these places of the file, zeros at another.
  // Returns where the next one begins.
  std::uint64_t write_entry(std::uint64_t at, std::uint64_t tail, std::uint64_t sequence,
                            const std::vector<std::uint64_t>& places, std::uint8_t value,
                            std::uint64_t zeros_at) {
    const std::uint64_t length = 4096 * (1 + places.size());
    Buffer bytes(length);
    LogEntry entry{{'l', 'o', 'g', 'e'}, {}, {}, {}, {}, {}, {}, log_id, {}, {}};
    entry.length = static_cast<std::uint32_t>(length);
    entry.tail = static_cast<std::uint32_t>(tail);
    entry.sequence = sequence;
    entry.descriptors = static_cast<std::uint32_t>(places.size() + 1);
    entry.flushed_file_offset = image_->main->size();
    entry.last_file_offset = image_->main->size();
    std::size_t slot = sizeof(LogEntry);
    std::size_t sector = 4096;
    for (const std::uint64_t place : places) {
      LogDescriptor descriptor{{'d', 'e', 's', 'c'}, {}, {}, {}, {}};
      descriptor.trailing = value * 0x01010101U;
      descriptor.leading = value * 0x0101010101010101ULL;
      descriptor.offset = place;
      descriptor.sequence = sequence;
      put_at(bytes, slot, descriptor);
      slot += sizeof(descriptor);
      LogData data{{'d', 'a', 't', 'a'}, {}, {}, {}};
      data.sequence_high = static_cast<std::uint32_t>(sequence >> 32);
      data.sequence_low = static_cast<std::uint32_t>(sequence);
      data.data.fill(value);
      put_at(bytes, sector, data);
      sector += 4096;
    }
    LogDescriptor zero{{'z', 'e', 'r', 'o'}, {}, {}, {}, {}};
    zero.leading = 4096;
    zero.offset = zeros_at;
    zero.sequence = sequence;
    put_at(bytes, slot, zero);
    put_at(bytes, 0, entry);
    entry.checksum = crc32c(bytes);
    put_at(bytes, 0, entry);
    for (std::uint64_t i = 0; i < length; i += 4096)
      image_->main->write(log_ + (at + i) % log_length_, ConstByteSpan(bytes).subspan(i, 4096));
    return (at + length) % log_length_;
  }
  void name_log() {
    Structure structure;
    structure.header = header_;
    structure.header.log = log_id;
    write_headers(*image_->main, structure);
  }
  std::uint8_t byte_at(std::uint64_t offset) {
    return read_buffer(image_->container->disk(), offset, 1)[0];
  }

  std::unique_ptr<MemoryImage> image_;
  Header header_{};
  std::uint64_t data_ = 0;
  std::uint64_t log_ = 0;
  std::uint64_t log_length_ = 0;
};

TEST_F(VhdxLog, IsReplayedInReadingAndBeforeAChange) {
  // Over the end of the ring, with a stale entry of an older sequence behind.
  const std::uint64_t start = log_length_ - 8192;
  std::uint64_t next = write_entry(start, start, 7, {data_, data_ + 8192}, 0x22, data_ + 4096);
  next = write_entry(next, start, 8, {data_ + 8192}, 0x33, data_ + 12288);
  write_entry(next, next, 3, {data_}, 0x77, data_);
  name_log();
  const MemoryStore before(*image_->main, "before");
  image_->open();
  EXPECT_EQ(byte_at(0), 0x22);
  EXPECT_EQ(byte_at(4095), 0x22);
  EXPECT_EQ(byte_at(4096), 0);
  EXPECT_EQ(byte_at(8192), 0x33);
  EXPECT_EQ(byte_at(12288), 0);
  EXPECT_EQ(byte_at(16384), 0x11);
  ASSERT_EQ(image_->container->facts().pending_repairs.size(), 1U);
  EXPECT_THAT(image_->container->facts().pending_repairs[0], HasSubstr("5 writes"));
  EXPECT_EQ(audited(*image_->container), "");
  EXPECT_TRUE(image_->main->same_content(before)) << "reading writes nothing";

  image_->grow(Bytes(64U << 20));
  image_->open();
  EXPECT_TRUE(image_->container->facts().pending_repairs.empty());
  EXPECT_EQ(byte_at(4096), 0);
  EXPECT_EQ(byte_at(8192), 0x33);
  EXPECT_EQ(read_buffer(*image_->main, data_ + 8192, 1)[0], 0x33) << "in the file itself";
}

TEST_F(VhdxLog, ATornEntryEndsTheSequence) {
  const std::uint64_t next = write_entry(0, 0, 7, {data_}, 0x22, data_ + 4096);
  write_entry(next, 0, 8, {data_}, 0x33, data_ + 8192);
  const std::uint8_t noise = 0xee;
  image_->main->write(log_ + next + 5000, {&noise, 1});
  name_log();
  image_->open();
  EXPECT_EQ(byte_at(0), 0x22);
  EXPECT_EQ(byte_at(8192), 0x11);
  // The first one too: nothing whole is left of what the header promises.
  image_->main->write(log_ + 5000, {&noise, 1});
  EXPECT_THROW(image_->open(), Error);
}

TEST_F(VhdxLog, AFileThatWasCutShortIsFound) {
  write_entry(0, 0, 7, {data_}, 0x22, data_ + 4096);
  name_log();
  image_->main->resize(image_->main->size() - 4096);
  EXPECT_THROW(image_->open(), Error);
}

TEST_F(VhdxLog, EveryByteOfAnEntryCounts) {
  write_entry(0, 0, 7, {data_}, 0x22, data_ + 4096);
  name_log();
  for (std::uint64_t at = 0; at < 8192; at += 7) {
    Buffer byte = read_buffer(*image_->main, log_ + at, 1);
    byte[0] ^= 0x10;
    image_->main->write(log_ + at, byte);
    EXPECT_THROW(image_->open(), Error) << at;
    byte[0] ^= 0x10;
    image_->main->write(log_ + at, byte);
  }
  image_->open();
  EXPECT_EQ(byte_at(0), 0x22);
}

TEST_F(VhdxLog, TheOtherHeaderStandsInForADamagedOne) {
  Structure structure;
  read_headers(*image_->main, structure);
  const std::uint8_t noise = 0xee;
  image_->main->write(header_offsets[structure.slot] + 20, {&noise, 1});
  image_->open();
  EXPECT_FALSE(image_->container->facts().pending_repairs.empty());
  Findings findings;
  image_->container->audit(findings);
  EXPECT_EQ(findings.count(), 1U);
  EXPECT_EQ(byte_at(0), 0x11);
  image_->container->make_ready();
  image_->open();
  EXPECT_TRUE(image_->container->facts().pending_repairs.empty());
}

}  // namespace
}  // namespace jh::test

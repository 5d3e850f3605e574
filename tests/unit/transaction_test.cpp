// Stage, ledger, seal, undo and recover on small stores.
#include "core/store/transaction.h"

#include <gtest/gtest.h>

#include "core/base/errors.h"
#include "support/fault_host.h"

namespace jh {
namespace {

using test::FaultHost;

Buffer filled(std::size_t size, std::uint8_t value) { return Buffer(size, value); }

MemoryStore image_of(std::uint64_t size, std::uint8_t seed) {
  MemoryStore image(size);
  for (std::uint64_t at = 0; at < size; at += 3 * 4096)
    image.write(at, filled(std::min<std::uint64_t>(4096, size - at),
                           static_cast<std::uint8_t>(seed + at / 4096)));
  return image;
}

// A change with everything in it: held bytes, direct ones over old content and holes, growth.
void change(FaultHost& host, const std::vector<std::string>& paths, bool seal,
            bool keep_undo = true) {
  std::vector<std::unique_ptr<Store>> files;
  std::vector<Store*> stores;
  for (const std::string& path : paths) {
    files.push_back(host.open(path, Access::read_write));
    stores.push_back(files.back().get());
  }
  Transaction transaction(host, paths, stores);
  Silent silent;
  for (std::size_t i = 0; i < paths.size(); ++i) {
    Stage& stage = transaction.stage(i);
    const std::uint64_t old = stage.size();
    stage.write(100, filled(5000, 0xA1));
    stage.write_unreferenced(8 * 4096, filled(6 * 4096, 0xB2));
    stage.resize(old + 100'000);
    stage.write_unreferenced(old + 50'000, filled(10'000, 0xC3));
    stage.write(old + 59'000, filled(2'000, 0xD4));
    stage.write(old - 700, filled(1400, 0xE5));
    EXPECT_EQ(read_buffer(stage, old + 59'500, 1)[0], 0xD4);
    EXPECT_EQ(read_buffer(stage, old + 99'999, 1)[0], 0);
    EXPECT_EQ(read_buffer(stage, 5099, 1)[0], 0xA1);
    EXPECT_EQ(read_buffer(stage, 5100, 1), read_buffer(stage.base(), 5100, 1));
  }
  if (seal) transaction.seal(silent, keep_undo);
}

TEST(Transaction, SealsAndUndoesToTheByte) {
  FaultHost host;
  const MemoryStore old = image_of(100'352, 3);
  host.put("/m/a.img", old);
  change(host, {"/m/a.img"}, true);
  EXPECT_EQ(host.content("/m/a.img").size(), 200'352U);
  EXPECT_EQ(host.names(), (std::vector<std::string>{"/m/a.img", "/m/a.img.juneheath"}));
  EXPECT_EQ(check_undo(host, "/m/a.img").images.front().old_size, 100'352U);
  undo(host, "/m/a.img");
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
  EXPECT_EQ(host.names(), std::vector<std::string>{"/m/a.img"});
}

TEST(Transaction, DroppedWithoutASeal) {
  FaultHost host;
  const MemoryStore old = image_of(100'352, 3);
  host.put("/m/a.img", old);
  change(host, {"/m/a.img"}, false);
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
  EXPECT_EQ(host.names(), std::vector<std::string>{"/m/a.img"});
}

TEST(Transaction, KeepsTheEarlierUndoWhenDropped) {
  FaultHost host;
  const MemoryStore old = image_of(100'352, 3);
  host.put("/m/a.img", old);
  change(host, {"/m/a.img"}, true);
  change(host, {"/m/a.img"}, false);
  undo(host, "/m/a.img");
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

TEST(Transaction, WithoutUndoLeavesNoLedger) {
  FaultHost host;
  host.put("/m/a.img", image_of(100'352, 3));
  change(host, {"/m/a.img"}, true, false);
  EXPECT_EQ(host.names(), std::vector<std::string>{"/m/a.img"});
  EXPECT_THROW(check_undo(host, "/m/a.img"), Error);
}

TEST(Transaction, SpansSeveralImages) {
  FaultHost host;
  const MemoryStore old_a = image_of(100'352, 3);
  const MemoryStore old_b = image_of(204'800, 90);
  host.put("/m/a.img", old_a);
  host.put("/n/b.img", old_b);
  change(host, {"/m/a.img", "/n/b.img"}, true);
  EXPECT_EQ(check_undo(host, "/n/b.img").images.size(), 2U);
  undo(host, "/n/b.img");  // found through the second image as well
  EXPECT_TRUE(host.content("/m/a.img").same_content(old_a));
  EXPECT_TRUE(host.content("/n/b.img").same_content(old_b));
  EXPECT_EQ(host.names().size(), 2U);
}

TEST(Undo, RefusedOnceAnythingWasWritten) {
  for (const std::uint64_t at : {200ULL, 8ULL * 4096 + 5, 155'000ULL, 160'000ULL, 199'000ULL}) {
    FaultHost host;
    host.put("/m/a.img", image_of(100'352, 3));
    change(host, {"/m/a.img"}, true);
    const auto file = host.open("/m/a.img", Access::read_write);
    file->write(at, filled(1, 0x77));
    const MemoryStore present(host.content("/m/a.img"), "present");
    EXPECT_THROW(undo(host, "/m/a.img"), Error) << at;
    EXPECT_TRUE(host.content("/m/a.img").same_content(present));
    EXPECT_EQ(host.names().size(), 2U);
  }
}

TEST(Recover, RefusesAnotherImage) {
  FaultHost host;
  host.put("/m/a.img", image_of(100'352, 3));
  FaultHost whole;
  whole.put("/m/a.img", image_of(100'352, 3));
  whole.cut_at(0, Unflushed::kept);
  change(whole, {"/m/a.img"}, true);
  // Between the commit mark and the mark "done".
  host.cut_at(whole.operations() - 2, Unflushed::kept);
  EXPECT_THROW(change(host, {"/m/a.img"}, true), PowerCut);
  std::mt19937 random(1);
  host.restart(random);
  const MemoryStore other = image_of(100'352, 77);
  host.put("/m/a.img", other);
  EXPECT_THROW(recover(host, "/m/a.img"), Error);
  EXPECT_TRUE(host.content("/m/a.img").same_content(other));
}

// Every byte of a finished ledger changed in turn: whatever is done with it then, the image is the
// old or the new one, or it is left alone.
TEST(Ledger, DamageIsNoticed) {
  const MemoryStore old = image_of(100'352, 3);
  FaultHost made;
  made.put("/m/a.img", old);
  change(made, {"/m/a.img"}, true);
  const MemoryStore sealed(made.content("/m/a.img"), "sealed");
  const MemoryStore ledger(made.content("/m/a.img.juneheath"), "ledger");
  int refused = 0;
  for (std::uint64_t at = 0; at < ledger.size(); at += at < 20'000 ? 7 : 997) {
    FaultHost host;
    host.put("/m/a.img", sealed);
    host.put("/m/a.img.juneheath", ledger);
    const auto file = host.open("/m/a.img.juneheath", Access::read_write);
    Buffer byte = read_buffer(*file, at, 1);
    byte[0] ^= 0x5A;
    file->write(at, byte);
    try {
      recover(host, "/m/a.img");
      undo(host, "/m/a.img");
      EXPECT_TRUE(host.content("/m/a.img").same_content(old)) << at;
    } catch (const Error&) {
      ++refused;
      EXPECT_TRUE(host.content("/m/a.img").same_content(sealed)) << at;
    }
  }
  EXPECT_GT(refused, 100);
}

}  // namespace
}  // namespace jh

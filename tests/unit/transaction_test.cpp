// Stage, ledger, seal, undo and recover on small stores.
#include "core/store/transaction.h"

#include "core/base/checksum.h"
#include "core/base/errors.h"
#include "support/power_cuts.h"
#include "support/test.h"

namespace jh::test {
namespace {

MemoryStore image_of(std::uint64_t size, std::uint8_t seed) {
  MemoryStore image(size);
  for (std::uint64_t at = 0; at < size; at += 3 * 4096)
    image.write(at, filled(std::min<std::uint64_t>(4096, size - at),
                           static_cast<std::uint8_t>(seed + at / 4096)));
  return image;
}

// The same on a host.
MemoryStore put_image(FaultHost& host) {
  MemoryStore image = image_of(100'352, 3);
  host.put("/m/a.img", image);
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
  const MemoryStore old = put_image(host);
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
  const MemoryStore old = put_image(host);
  change(host, {"/m/a.img"}, false);
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
  EXPECT_EQ(host.names(), std::vector<std::string>{"/m/a.img"});
}

TEST(Transaction, DroppingRemovesTheFileItMadeAndNoOtherOfThatName) {
  FaultHost host;
  const MemoryStore old = put_image(host);
  host.put("new.img", old);  // in the folder that the program runs in
  {
    const auto a = host.open("/m/a.img", Access::read_write);
    const auto made = host.create("/m/new.img");
    Transaction transaction(host, {"/m/a.img", "/m/new.img"}, {a.get(), made.get()}, 1);
    transaction.stage(1).resize(65'536);
    transaction.stage(1).write_unreferenced(4096, filled(4096, 0xC3));
  }
  EXPECT_EQ(host.names(), (std::vector<std::string>{"/m/a.img", "new.img"}));
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

TEST(Transaction, KeepsTheEarlierUndoWhenDropped) {
  FaultHost host;
  const MemoryStore old = put_image(host);
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

// What a change writes directly and then once more is put back to what it was at first.
TEST(Undo, TakesBackWhatWasWrittenTwice) {
  FaultHost host;
  const MemoryStore old = image_of(9U << 20, 3);
  host.put("/m/a.img", old);
  {
    const auto file = host.open("/m/a.img", Access::read_write);
    Transaction transaction(host, {"/m/a.img"}, {file.get()});
    Stage& stage = transaction.stage(0);
    stage.write_unreferenced(0, filled(16 * 4096, 0xB1));
    stage.begin_flush();
    stage.write(5000, filled(100, 0xB2));
    stage.write_unreferenced(8 * 4096, filled(20 * 4096, 0xB3));
    stage.write(27 * 4096 + 7, filled(2 * 4096, 0xB4));
    stage.write_unreferenced(26 * 4096, filled(4096, 0xB5));
    EXPECT_EQ(stage.held(), 2U * 4096);  // the rest is in the image
    EXPECT_EQ(read_buffer(stage, 4999, 3), (Buffer{0xB1, 0xB2, 0xB2}));
    EXPECT_EQ(read_buffer(stage, 26 * 4096 - 1, 2), (Buffer{0xB3, 0xB5}));
    EXPECT_EQ(read_buffer(stage, 27 * 4096 + 6, 2), (Buffer{0xB3, 0xB4}));
    Buffer before(16 * 4096);
    stage.read_old(0, before);
    EXPECT_EQ(before, read_buffer(const_cast<MemoryStore&>(old), 0, before.size()));
    transaction.seal(silent, true);
  }
  const auto file = host.open("/m/a.img", Access::read_only);
  EXPECT_EQ(read_buffer(*file, 29 * 4096 + 6, 1)[0], 0xB4);
  undo(host, "/m/a.img");
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

// A hole is kept in the ledger as a whole, but only what was written of it is the change's own.
TEST(Undo, LeavesTheRestOfAHoleAlone) {
  FaultHost host;
  const MemoryStore old(16U << 20);
  host.put("/m/a.img", old);
  {
    const auto file = host.open("/m/a.img", Access::read_write);
    Transaction transaction(host, {"/m/a.img"}, {file.get()});
    transaction.stage(0).write_unreferenced(1U << 20, filled(1U << 20, 0xB1));
    EXPECT_EQ(read_buffer(*file, 1U << 20, 1)[0], 0xB1) << "it need not wait";
    transaction.stage(0).write(0, filled(10, 0xB2));
    transaction.seal(silent, true);
  }
  const auto file = host.open("/m/a.img", Access::read_write);
  file->write(8U << 20, filled(5, 0x77));
  EXPECT_EQ(check_undo(host, "/m/a.img").bytes_put_back, (1U << 20) + 4096);
  undo(host, "/m/a.img");
  EXPECT_EQ(read_buffer(*file, 8U << 20, 5), filled(5, 0x77));
  file->write(8U << 20, Buffer(5));
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

// The tail moves over stale content in front and is cut off; the last page of it goes nowhere.
void move_and_cut(FaultHost& host, bool seal) {
  constexpr std::uint64_t kept = 600 * 4096;
  const auto file = host.open("/m/a.img", Access::read_write);
  Transaction transaction(host, {"/m/a.img"}, {file.get()});
  Stage& stage = transaction.stage(0);
  stage.resize(kept);
  for (std::uint64_t page = 0; page < 99; ++page) {
    const Buffer content = read_buffer(*file, kept + page * 4096, 4096);
    stage.write_unreferenced((200 + page * 2) * 4096, content);
    const std::uint32_t crc = crc32c(content);
    stage.note_moved(kept + page * 4096, stage, (200 + page * 2) * 4096, 4096, crc);
    // Said twice, or of what stays: no use.
    stage.note_moved(kept + page * 4096, stage, page * 4096, 4096, crc);
    stage.note_moved(page * 4096, stage, page * 4096, 4096, crc);
  }
  stage.write(3 * 4096, filled(9000, 0xA7));
  if (seal) transaction.seal(silent, true);
}

// The same by sharing the host's blocks; and what is cut off goes to the ledger in the same way.
void share_and_cut(FaultHost& host, bool seal) {
  constexpr std::uint64_t kept = 600 * 4096;
  const auto file = host.open("/m/a.img", Access::read_write);
  Transaction transaction(host, {"/m/a.img"}, {file.get()});
  Stage& stage = transaction.stage(0);
  copy_unreferenced(stage, kept, stage, 200 * 4096, 99 * 4096);
  if (host.is_willing()) {
    EXPECT_EQ(stage.shared(), 99U * 4096);
  }
  EXPECT_EQ(read_buffer(stage, 298 * 4096, 4096), read_buffer(*file, kept + 98 * 4096, 4096));
  // Where something is held it would not be seen, and a page of the image is not the stage's.
  stage.write(3 * 4096, filled(9000, 0xA7));
  EXPECT_EQ(stage.share_unreferenced(0, {&stage, 400 * 4096, 400'000}), 0U);
  EXPECT_EQ(stage.share_unreferenced(100 * 4096, {&stage, 4096, 90 * 4096}), 0U);
  EXPECT_EQ(stage.share_unreferenced(100 * 4096, {file.get(), 400 * 4096, 90 * 4096}), 0U);
  stage.resize(kept);
  if (seal) transaction.seal(silent, true);
}

using Move = void (*)(FaultHost& host, bool seal);

MemoryStore image_with_a_tail() {
  MemoryStore image = image_of(600 * 4096, 3);
  image.resize(700 * 4096);
  for (std::uint64_t page = 600; page < 700; ++page)
    image.write(page * 4096, filled(4096, static_cast<std::uint8_t>(page)));
  return image;
}

// Dropped, which leaves no trace of it; then sealed.
MemoryStore drop_and_seal(FaultHost& host, Move move) {
  MemoryStore old = image_with_a_tail();
  host.put("/m/a.img", old);
  move(host, false);
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
  move(host, true);
  EXPECT_EQ(host.content("/m/a.img").size(), 600U * 4096);
  return old;
}

TEST(Undo, FetchesWhatMovedFromItsNewPlace) {
  FaultHost host;
  const MemoryStore old = drop_and_seal(host, move_and_cut);
  const std::uint64_t stale = 99 * 4096;  // of which a third is not zero
  EXPECT_LT(host.content("/m/a.img.juneheath").size(), stale / 2 + 100'000);
  {
    // Its new place is as much a part of the undo as what was written.
    const auto file = host.open("/m/a.img", Access::read_write);
    file->write(210 * 4096, filled(1, 0x01));
    EXPECT_THROW(undo(host, "/m/a.img"), Error);
    file->write(210 * 4096, filled(1, static_cast<std::uint8_t>(605)));
  }
  undo(host, "/m/a.img");
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

TEST(Undo, TakesBackWhatMovedBySharing) {
  FaultHost host;
  const MemoryStore old = drop_and_seal(host, share_and_cut);
  const auto file = host.open("/m/a.img", Access::read_write);
  EXPECT_EQ(read_buffer(*file, 298 * 4096, 1)[0], static_cast<std::uint8_t>(698));
  for (const std::uint64_t at : {200U, 240U, 298U}) {
    const Buffer there = read_buffer(*file, at * 4096 + 77, 1);
    file->write(at * 4096 + 77, filled(1, 0x01));
    EXPECT_THROW(undo(host, "/m/a.img"), Error);
    file->write(at * 4096 + 77, there);
  }
  EXPECT_EQ(check_undo(host, "/m/a.img").bytes_put_back, (99U + 100U + 3U) * 4096);
  undo(host, "/m/a.img");
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

// The change itself, at each of its operations.
TEST(Recover, OfAMoveBySharingIsAllOrNothing) {
  const MemoryStore old = image_with_a_tail();
  const auto prepare = [&](FaultHost& host) { host.put("/m/a.img", old); };
  PowerCuts cuts(prepare, [](FaultHost& host) { share_and_cut(host, true); });
  const MemoryStore sealed(cuts.whole().content("/m/a.img"), "sealed");
  int finished = 0;
  // What is there now is the old state, but for what nothing referred to, or the new one, which can
  // be taken back.
  const auto expect_whole = [&](FaultHost& host, std::uint64_t n) {
    recover(host, "/m/a.img");
    MemoryStore now(host.content("/m/a.img"), "now");
    if (now.size() == sealed.size()) {
      ++finished;
      ASSERT_TRUE(now.same_content(sealed)) << n;
      undo(host, "/m/a.img");
      ASSERT_TRUE(host.content("/m/a.img").same_content(old)) << n;
      return;
    }
    MemoryStore was(old, "was");
    ASSERT_EQ(now.size(), was.size());
    for (const auto& [from, to] : {std::pair{0, 200}, std::pair{299, 700}})
      ASSERT_EQ(read_buffer(now, from * 4096ULL, (to - from) * 4096ULL),
                read_buffer(was, from * 4096ULL, (to - from) * 4096ULL))
          << n;
  };
  cuts.everywhere({}, expect_whole);
  EXPECT_GT(finished, 20);
  // The disk fails, once or for good.
  for (std::uint64_t n = 1; n <= cuts.operations(); ++n)
    for (const bool lasting : {false, true}) {
      FaultHost host;
      prepare(host);
      host.fail_at(n, lasting);
      try {
        share_and_cut(host, true);
      } catch (const Error& error) {
        EXPECT_EQ(error.status(), Status::io) << error.what();
      }
      host.mend();
      expect_whole(host, n);
    }
  // The host shares so many times, and then no more: the rest is copied.
  for (std::uint64_t times = 0; times < 6; ++times) {
    FaultHost host;
    host.put("/m/a.img", old);
    host.share_at_most(times);
    share_and_cut(host, true);
    ASSERT_TRUE(host.content("/m/a.img").same_content(sealed)) << times;
    undo(host, "/m/a.img");
    ASSERT_TRUE(host.content("/m/a.img").same_content(old)) << times;
  }
}

class UndoOfAMove : public testing::TestWithParam<Move> {};

TEST_P(UndoOfAMove, SurvivesAPowerCutAnywhere) {
  const MemoryStore old = image_with_a_tail();
  FaultHost made;
  made.put("/m/a.img", old);
  GetParam()(made, true);
  const MemoryStore sealed(made.content("/m/a.img"), "sealed");
  const MemoryStore ledger(made.content("/m/a.img.juneheath"), "ledger");
  const PowerCuts cuts(
      [&](FaultHost& host) {
        host.put("/m/a.img", sealed);
        host.put("/m/a.img.juneheath", ledger);
      },
      [](FaultHost& host) { undo(host, "/m/a.img"); });
  std::uint64_t taken_back = 0;
  cuts.everywhere({}, [&](FaultHost& host, std::uint64_t n) {
    recover_with_a_cut(host, "/m/a.img", 1 + n % 150);
    const bool is_old = host.content("/m/a.img").same_content(old);
    taken_back += is_old ? 1 : 0;
    EXPECT_TRUE(is_old || host.content("/m/a.img").same_content(sealed));
  });
  const std::uint64_t least = GetParam() == move_and_cut ? 100 : 15;
  EXPECT_GT(cuts.operations(), least);
  EXPECT_GT(taken_back, least);
}

INSTANTIATE_TEST_SUITE_P(By, UndoOfAMove, testing::Values(move_and_cut, share_and_cut),
                         [](const auto& param) {
                           return std::string(param.param == move_and_cut ? "Copying" : "Sharing");
                         });

// What the seal has kept once and writes to many places: a cut in between is finished from it.
TEST(Recover, WritesCopiesThatWereKeptOnce) {
  const MemoryStore old = image_of(400 * 4096, 3);
  const auto copy_about = [&](FaultHost& host) {
    const auto file = host.open("/m/a.img", Access::read_write);
    Transaction transaction(host, {"/m/a.img"}, {file.get()});
    Stage& stage = transaction.stage(0);
    for (std::uint64_t copy = 0; copy < 6; ++copy)
      for (std::uint64_t page = 0; page < 12; ++page)
        stage.write((copy * 50 + page) * 4096, filled(4096, static_cast<std::uint8_t>(90 + page)));
    transaction.seal(silent, true);
  };
  PowerCuts cuts([&](FaultHost& host) { host.put("/m/a.img", old); }, copy_about);
  MemoryStore fresh(cuts.whole().content("/m/a.img"), "fresh");
  EXPECT_EQ(read_buffer(fresh, (250 + 11) * 4096, 1)[0], 101);
  int finished = 0;
  cuts.everywhere({}, [&](FaultHost& host, std::uint64_t) {
    recover(host, "/m/a.img");
    const bool is_new = host.content("/m/a.img").same_content(fresh);
    finished += is_new ? 1 : 0;
    EXPECT_TRUE(is_new || host.content("/m/a.img").same_content(old));
  });
  EXPECT_GT(finished, 20);
}

TEST(Recover, RefusesAnotherImage) {
  const PowerCuts cuts([](FaultHost& host) { host.put("/m/a.img", image_of(100'352, 3)); },
                       [](FaultHost& host) { change(host, {"/m/a.img"}, true); });
  const MemoryStore other = image_of(100'352, 77);
  std::vector<std::uint64_t> second_half;
  for (std::uint64_t n = cuts.operations() / 2; n <= cuts.operations(); ++n)
    second_half.push_back(n);
  int refused = 0;
  // Whether it is all of another image, or only the page that says that the change is going on.
  for (const bool whole_image : {true, false})
    cuts.everywhere({.fates = {Unflushed::kept}, .points = second_half},
                    [&](FaultHost& host, std::uint64_t) {
                      if (whole_image)
                        host.put("/m/a.img", other);
                      else
                        host.open("/m/a.img", Access::read_write)->write(0, Buffer(4096, 0x77));
                      const MemoryStore now(host.content("/m/a.img"), "now");
                      try {
                        recover(host, "/m/a.img");
                      } catch (const Error& error) {
                        EXPECT_EQ(error.status(), Status::refused) << error.what();
                        ++refused;
                      }
                      EXPECT_TRUE(host.content("/m/a.img").same_content(now));
                    });
  EXPECT_GT(refused, 2);
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
  for (std::uint64_t at = 0; at < ledger.size(); at += at < 24'000 ? 97 : at < 44'000 ? 7 : 997) {
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
}  // namespace jh::test

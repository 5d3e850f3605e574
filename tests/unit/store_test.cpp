#include "core/store/store.h"

#include "core/base/errors.h"
#include "core/store/file_store.h"
#include "core/store/memory_store.h"
#include "core/store/old_state.h"
#include "core/store/transaction.h"
#include "core/store/transfer.h"
#include "core/store/views.h"
#include "support/fault_host.h"
#include "support/test.h"

namespace jh::test {
namespace {

Buffer pattern(std::size_t size, std::uint8_t start) {
  Buffer data(size);
  for (std::size_t i = 0; i < size; ++i) data[i] = static_cast<std::uint8_t>(start + i);
  return data;
}

// Random reads, writes, discards and resizes against a plain array.
void play(Store& store, std::size_t size, bool resizes, unsigned seed) {
  std::mt19937 random(seed);
  Buffer model(size);
  for (int round = 0; round < 400; ++round) {
    const std::size_t offset = random() % model.size();
    const std::size_t length = random() % std::min<std::size_t>(model.size() - offset, 20'000) + 1;
    switch (random() % 5) {
      case 0:
      case 1: {
        const Buffer data = pattern(length, static_cast<std::uint8_t>(random()));
        store.write(offset, data);
        std::copy(data.begin(), data.end(), model.begin() + static_cast<std::ptrdiff_t>(offset));
        break;
      }
      case 2:
        store.discard(offset, length);
        std::fill_n(model.begin() + static_cast<std::ptrdiff_t>(offset), length, std::uint8_t{0});
        break;
      case 3:
        if (!resizes) break;
        model.resize(random() % 200'000 + 1);
        store.resize(model.size());
        break;
      default:
        break;
    }
    ASSERT_EQ(store.size(), model.size());
    const std::size_t at = random() % model.size();
    const std::size_t count = std::min<std::size_t>(model.size() - at, 9000);
    const Buffer got = read_buffer(store, at, count);
    ASSERT_TRUE(std::equal(got.begin(), got.end(), model.begin() + static_cast<std::ptrdiff_t>(at)))
        << "round " << round << ", at " << at << " + " << count << ": byte "
        << std::mismatch(got.begin(), got.end(), model.begin() + static_cast<std::ptrdiff_t>(at))
                   .first -
               got.begin();
    // The map never calls zero what is not.
    const Range run = store.map(at, count);
    ASSERT_GT(run.length, 0U);
    if (run.zero) {
      ASSERT_TRUE(all_zero(ConstByteSpan(model).subspan(at, run.length)));
    }
  }
}

TEST(MemoryStore, BehavesLikeAnArray) {
  MemoryStore store(150'000);
  play(store, 150'000, true, 1);
}

TEST(FileStore, BehavesLikeAnArray) {
  const TempFolder folder;
  const auto store = FileStore::create(folder / "a.img");
  store->resize(150'000);
  play(*store, 150'000, true, 2);
}

TEST(WindowStore, BehavesLikeAnArrayAndTouchesNothingElse) {
  MemoryStore below(300'000);
  below.write(0, pattern(300'000, 9));
  below.discard(100'001, 150'000);
  WindowStore window(below, 100'001, 150'000, "window");
  play(window, 150'000, false, 3);
  const Buffer expected = pattern(300'000, 9);
  const Buffer head = read_buffer(below, 0, 100'001);
  EXPECT_TRUE(std::equal(head.begin(), head.end(), expected.begin()));
  const Buffer tail = read_buffer(below, 250'001, 49'999);
  EXPECT_TRUE(std::equal(tail.begin(), tail.end(), expected.begin() + 250'001));
}

TEST(JoinStore, BehavesLikeAnArray) {
  MemoryStore a(100'000);
  MemoryStore b(100'000);
  JoinStore join({{&b, 50'000, 50'000}, {&a, 0, 30'001}, {&b, 0, 49'999}, {&a, 60'000, 20'000}},
                 "join");
  play(join, 150'000, false, 4);
}

// Held, direct, spilled, let go: whatever way the bytes take, and the old state stays readable.
TEST(Stage, BehavesLikeAnArrayAndKeepsTheOldState) {
  for (const Stage::Tail tail : {Stage::Tail::held, Stage::Tail::direct})
    for (unsigned seed = 1; seed <= 12; ++seed) {
      SCOPED_TRACE(fmt::format("tail {}, seed {}", static_cast<int>(tail), seed));
      FaultHost host;
      MemoryStore old(150'000);
      old.write(0, pattern(150'000, 9));
      old.discard(40'000, 30'000);
      host.put("/m/a.img", old);
      const auto file = host.open("/m/a.img", Access::read_write);
      Transaction transaction(host, {"/m/a.img"}, {file.get()});
      Stage& stage = transaction.stage(0);
      stage.set_tail(tail);
      stage.write_unreferenced(8192, pattern(8192, 3));
      stage.write(8192, pattern(8192, 4));
      stage.discard(0, stage.size());
      play(stage, 150'000, true, seed);
      OldState before(stage);
      EXPECT_EQ(before.size(), 150'000U);
      EXPECT_EQ(read_buffer(before, 0, 150'000), read_buffer(old, 0, 150'000));
      for (std::uint64_t at = 0; at < 150'000;) {
        const jh::Range run = before.map(at, 150'000 - at);
        ASSERT_GT(run.length, 0U);
        if (run.zero) {
          EXPECT_TRUE(all_zero(read_buffer(old, at, run.length)));
        }
        at += run.length;
      }
      const Buffer wanted = read_buffer(stage, 0, stage.size());
      transaction.seal(silent, true);
      MemoryStore sealed(host.content("/m/a.img"), "sealed");
      ASSERT_EQ(read_buffer(sealed, 0, sealed.size()), wanted) << seed;
      undo(host, "/m/a.img");
      EXPECT_TRUE(host.content("/m/a.img").same_content(old)) << seed;
    }
}

// No two pages are the same, but each ninth is as the one before it.
Buffer numbered_page(std::uint64_t number) {
  if (number % 9 == 8) --number;
  Buffer page = pattern(4096, static_cast<std::uint8_t>(1 + number));
  put_at(page, 100, number);
  return page;
}

// More than the stage holds in memory goes through the ledger, and comes back.
TEST(Stage, ParksWhatIsTooMuchToHold) {
  constexpr std::uint64_t size = Stage::most_in_memory * 2;
  FaultHost host;
  const MemoryStore old(size);
  host.put("/m/a.img", old);
  const auto file = host.open("/m/a.img", Access::read_write);
  {
    Transaction transaction(host, {"/m/a.img"}, {file.get()});
    Stage& stage = transaction.stage(0);
    for (std::uint64_t at = 0; at + 4096 <= size; at += 4096)
      stage.write(at, numbered_page(at / 4096));
    for (std::uint64_t at = 4096 * 7; at + 4096 <= size; at += 4096 * 11)
      stage.write(at + 9, pattern(20, 200));
    EXPECT_LE(stage.held_in_memory(), Stage::most_in_memory);
    EXPECT_EQ(stage.held(), size);
    EXPECT_GT(host.content("/m/a.img.juneheath.open").size(), Stage::most_in_memory / 2);
    transaction.seal(silent, true);
  }
  for (std::uint64_t at = 0; at + 4096 <= size; at += 4096) {
    Buffer wanted = numbered_page(at / 4096);
    const Buffer over = pattern(20, 200);
    if (at / 4096 % 11 == 7) std::copy(over.begin(), over.end(), wanted.begin() + 9);
    ASSERT_EQ(read_buffer(*file, at, 4096), wanted) << at;
  }
  undo(host, "/m/a.img");
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

// A filesystem's table, copied to many places, is kept once: in memory and in the ledger.
TEST(Stage, KeepsCopiesOnce) {
  constexpr std::uint64_t table = 512;  // pages
  constexpr std::uint64_t copies = 30;
  constexpr std::uint64_t size = 4096 * table * copies * 2;
  FaultHost host;
  const MemoryStore old(size);
  host.put("/m/a.img", old);
  const auto file = host.open("/m/a.img", Access::read_write);
  {
    Transaction transaction(host, {"/m/a.img"}, {file.get()});
    Stage& stage = transaction.stage(0);
    const auto place = [](std::uint64_t copy, std::uint64_t page) {
      return (copy * 2 * table + page) * 4096;
    };
    for (std::uint64_t copy = 0; copy < copies; ++copy)
      for (std::uint64_t page = 0; page < table; ++page)
        stage.write(place(copy, page), numbered_page(page));
    EXPECT_LE(stage.held_in_memory(), table * 4096);
    // One of them is changed: it alone.
    stage.write(place(3, 5) + 77, pattern(9, 200));
    // One is overwritten, one let go, and none is missed.
    for (std::uint64_t page = 0; page < table; ++page)
      stage.write(place(4, page), numbered_page(page + table));
    stage.discard(place(5, 0), table * 4096);
    EXPECT_LE(stage.held_in_memory(), (2 * table + 1) * 4096);
    transaction.seal(silent, true);
    const std::uint64_t payload = 3 * table * 4096;
    EXPECT_LT(host.content("/m/a.img.juneheath").size(), payload + 200'000);
    for (std::uint64_t copy = 0; copy < copies; ++copy)
      for (std::uint64_t page = 0; page < table; ++page) {
        Buffer wanted = copy == 5 ? Buffer(4096) : numbered_page(page + (copy == 4 ? table : 0));
        const Buffer over = pattern(9, 200);
        if (copy == 3 && page == 5) std::copy(over.begin(), over.end(), wanted.begin() + 77);
        ASSERT_EQ(read_buffer(*file, place(copy, page), 4096), wanted) << copy << ", " << page;
      }
  }
  undo(host, "/m/a.img");
  EXPECT_TRUE(host.content("/m/a.img").same_content(old));
}

// The end came in front of the old one and went back: what was behind it is gone.
TEST(Stage, ShowsZerosWhereTheEndHasBeen) {
  FaultHost host;
  MemoryStore old(100'000);
  old.write(0, pattern(100'000, 1));
  host.put("/m/a.img", old);
  const auto file = host.open("/m/a.img", Access::read_write);
  Transaction transaction(host, {"/m/a.img"}, {file.get()});
  Stage& stage = transaction.stage(0);
  stage.write_unreferenced(81'920, pattern(4096, 7));
  stage.resize(50'001);
  stage.resize(120'000);
  EXPECT_TRUE(all_zero(read_buffer(stage, 50'001, 69'999)));
  EXPECT_EQ(read_buffer(stage, 49'990, 11), read_buffer(old, 49'990, 11));
}

TEST(Stores, RefuseRangesPastTheirEnd) {
  MemoryStore memory(1000);
  WindowStore window(memory, 100, 500, "window");
  JoinStore join({{&memory, 0, 500}}, "join");
  Buffer data(10);
  for (Store* store :
       {static_cast<Store*>(&memory), static_cast<Store*>(&window), static_cast<Store*>(&join)}) {
    EXPECT_THROW(store->read(store->size() - 9, data), Error);
    EXPECT_THROW(store->write(store->size() - 9, data), Error);
    EXPECT_THROW(store->read(UINT64_MAX - 3, data), Error);
    EXPECT_NO_THROW(store->read(store->size() - 10, data));
  }
  EXPECT_THROW(WindowStore(memory, 900, 101, "too far"), Error);
  EXPECT_THROW(read_buffer(memory, 0, SIZE_MAX), Error);
}

TEST(FileStore, KeepsHoles) {
  const TempFolder folder;
  const auto store = FileStore::create(folder / "a.img");
  store->resize(1ULL << 40);
  EXPECT_LT(store->allocated(), 65536U);
  store->write((1ULL << 39) + 4096, pattern(4096, 1));
  EXPECT_TRUE(store->map(0, 1ULL << 40).zero);
  EXPECT_TRUE(range_is_zero(*store, 0, 1ULL << 39));
  EXPECT_FALSE(range_is_zero(*store, 0, 1ULL << 40));
}

TEST(FileStore, WhatTheHostBringsOutMeanwhileMayBeWrittenAgain) {
  const TempFolder folder;
  constexpr std::uint64_t piece = 6U << 20;
  constexpr std::uint64_t pieces = 8;
  {
    const auto store = FileStore::create(folder / "a.img");
    store->resize(pieces * piece);
    // The second round overtakes what the host was told to begin in the first one.
    for (std::uint64_t round = 0; round < 2; ++round)
      for (std::uint64_t i = 0; i < pieces; ++i)
        store->write(i * piece, pattern(piece, static_cast<std::uint8_t>(i + round * 16)));
    store->write(piece - 10, pattern(20, 99));
    store->begin_flush();  // and nothing waits for it
  }
  FileStore again(folder / "a.img", Access::read_only);
  for (std::uint64_t i = 0; i < pieces; ++i) {
    Buffer wanted = pattern(piece, static_cast<std::uint8_t>(i + 16));
    const Buffer over = pattern(20, 99);
    if (i == 0) std::copy_n(over.begin(), 10, wanted.end() - 10);
    if (i == 1) std::copy_n(over.begin() + 10, 10, wanted.begin());
    EXPECT_EQ(read_buffer(again, i * piece, piece), wanted) << i;
  }
}

TEST(FileStore, RefusesWhatIsNoImage) {
  const TempFolder folder;
  const auto status = [&](const std::string& path) {
    try {
      const FileStore store(path, Access::read_only);
      return Status::done;
    } catch (const Error& error) {
      return error.status();
    }
  };
  EXPECT_EQ(status(folder / "missing.img"), Status::refused);
  EXPECT_EQ(status(folder.path().string()), Status::refused);
  EXPECT_EQ(status("/dev/null"), Status::refused);
}

// A store whose host shares so many times, and then no more.
class Unwilling final : public Store {
 public:
  Unwilling(MemoryStore& below, int times) : below_(below), times_(times) {}
  std::uint64_t size() const override { return below_.size(); }
  void read(std::uint64_t offset, ByteSpan out) override { below_.read(offset, out); }
  void write(std::uint64_t offset, ConstByteSpan data) override { below_.write(offset, data); }
  std::uint64_t share(std::uint64_t offset, Store& from, std::uint64_t source,
                      std::uint64_t length) override {
    if (times_-- <= 0) return 0;
    return below_.share(offset, from, source, std::min<std::uint64_t>(length, 8192));
  }
  void discard(std::uint64_t offset, std::uint64_t length) override {
    below_.discard(offset, length);
  }
  void flush() override {}
  void resize(std::uint64_t size) override { below_.resize(size); }
  std::string name() const override { return "unwilling"; }

 private:
  MemoryStore& below_;
  int times_;
};

TEST(Transfer, SharesWhatLiesAlikeAndCopiesTheRest) {
  std::mt19937 random(20261130);
  constexpr std::uint64_t size = 96U << 10;
  MemoryStore source(size);
  source.write(0, pattern(size / 2, 1));
  for (int round = 0; round < 300; ++round) {
    MemoryStore target(size);
    Unwilling host(target, round % 5);
    // Through views of both, at places that are alike or not.
    const std::uint64_t shift = round % 3 == 0 ? 512 : 0;
    WindowStore from(source, 8192 + shift, size - 16384, "from");
    JoinStore to({{&host, 4096, 20480}, {&host, 40960, 40960}}, "to");
    const std::uint64_t length = 1 + random() % 40000;
    const std::uint64_t at = random() % 2 == 0 ? 4096 : random() % 10000;
    const Transferred done = transfer(from, at, to, at, length);
    EXPECT_EQ(done.shared + done.copied, length);
    EXPECT_EQ(done.shared % MemoryStore::page_size, 0U);
    if (shift != 0 || round % 5 == 0) {
      EXPECT_EQ(done.shared, 0U);
    } else if (at == 4096 && length >= 8192) {
      EXPECT_GT(done.shared, 0U);
    }
    EXPECT_EQ(read_buffer(to, at, length), read_buffer(from, at, length));
    EXPECT_TRUE(all_zero(read_buffer(to, 0, at)));
    EXPECT_TRUE(all_zero(read_buffer(to, at + length, to.size() - at - length)));
    // What one of them writes is its own.
    const Buffer before = read_buffer(source, 0, size);
    to.write(at, Buffer(length, 0xee));
    EXPECT_EQ(read_buffer(source, 0, size), before);
  }
}

TEST(MemoryStore, CopiesAreIndependentAndCompare) {
  MemoryStore a(100'000);
  a.write(5000, pattern(100, 1));
  MemoryStore b(a, "copy");
  EXPECT_TRUE(a.same_content(b));
  b.write(90'000, pattern(1, 7));
  EXPECT_FALSE(a.same_content(b));
  b.discard(90'000, 1);
  EXPECT_TRUE(a.same_content(b));
  EXPECT_TRUE(b.same_content(a));
  b.resize(99'999);
  EXPECT_FALSE(a.same_content(b));
}

}  // namespace
}  // namespace jh::test

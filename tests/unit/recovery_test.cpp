// What recover and undo may do with a ledger: forged ones, and images that are not as they were
// left.
#include "core/store/recovery.h"

#include "core/base/checksum.h"
#include "core/base/compression.h"
#include "core/store/first_page_guard.h"
#include "core/store/transaction.h"
#include "support/fault_host.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr const char* image_path = "/m/a.img";
constexpr const char* victim = "/etc/passwd";

MemoryStore content(std::uint8_t seed) {
  MemoryStore made(100'352);
  for (std::uint64_t at = 0; at < 96'000; at += 8192)
    made.write(at, filled(4096, static_cast<std::uint8_t>(seed + at / 8192)));
  return made;
}

// A ledger as an attacker writes one: every sum is right.
class Forged : public testing::Test {
 protected:
  Forged() {
    host_.put(image_path, content(1));
    host_.put(victim, content(9));
    victim_ = host_.open(victim, Access::read_only);
  }

  enum class FrontIs { unknown, open, closed };

  // Begun over these images (the last `created` of them "made by the change"); `fill` adds records.
  // `front`: of the first image, as the ledger and the image say.
  template <class Fill>
  void forge(const std::vector<std::string>& paths, std::size_t created, bool commit, bool done,
             Fill fill, FrontIs front = FrontIs::unknown) {
    std::vector<std::unique_ptr<Store>> files;
    std::vector<Store*> stores;
    for (const std::string& path : paths) {
      files.push_back(host_.open(path, Access::read_write));
      stores.push_back(files.back().get());
    }
    auto ledger = Ledger::create(host_, paths, stores, created);
    fill(*ledger);
    if (front != FrontIs::unknown) {
      ledger->append_about(ledger::RecordKind::front, 0, 0, 0, {});
      FirstPageGuards::note(*ledger, 0, *stores[0], stores[0]->size());
    }
    ledger->flush();
    if (commit) ledger->commit(/*with_undo=*/true);
    if (front == FrontIs::closed) FirstPageGuards(*ledger, stores).close_all();
    if (done) {
      ledger->mark_applied();
      ledger->mark_done();
    }
    // The attacker leaves no pointer beside the victim.
    for (const char* ending : {".juneheath", ".juneheath.open"})
      host_.remove(std::string(victim) + ending);
  }

  // Neither undo (of what is done) nor recover takes a ledger with this in it, and nothing is
  // written.
  void expect_useless(const std::function<void(Ledger&)>& lie, bool done, FrontIs front) {
    host_.put(image_path, content(1));
    forge(
        {image_path}, 0, true, done,
        [&](Ledger& ledger) {
          ledger.append_about(ledger::RecordKind::new_size, 0, 100'352, 100'352, {});
          lie(ledger);
        },
        front);
    const MemoryStore before(host_.content(image_path), "before");
    if (done) {
      EXPECT_THROW(undo(host_, image_path, only_image_), Error);
    } else {
      EXPECT_THROW(recover(host_, image_path, only_image_), Error);
    }
    EXPECT_TRUE(host_.content(image_path).same_content(before));
    host_.remove(std::string(image_path) + ".juneheath");
  }

  // A record that says that its bytes are shared, at `at`.
  static void share_at(Ledger& ledger, ledger::RecordKind kind, std::uint64_t offset,
                       std::uint64_t at, std::uint64_t length) {
    ledger::SharedPlace place{};
    place.at = at;
    ledger.append_about(kind, 0, offset, length, bytes_of(place), ledger::flag_shared);
  }

  void expect_victim_untouched() {
    ASSERT_TRUE(host_.exists(victim));
    EXPECT_TRUE(host_.content(victim).same_content(content(9)));
  }

  FaultHost host_;
  std::unique_ptr<Store> victim_;
  const Named only_image_{{image_path}, {}};
};

TEST_F(Forged, ADroppedChangeRemovesNoFileThatWasNotNamed) {
  forge({image_path, victim}, 1, false, false, [](Ledger&) {});
  const Recovered done = recover(host_, image_path, only_image_);
  EXPECT_EQ(done.result, RecoverResult::dropped);
  EXPECT_EQ(done.left, std::vector<std::string>{victim});
  expect_victim_untouched();
  EXPECT_TRUE(host_.content(image_path).same_content(content(1)));
}

TEST_F(Forged, NorOneThatWasNamedButHoldsSomething) {
  forge({image_path, victim}, 1, false, false, [](Ledger&) {});
  recover(host_, image_path, {{image_path, victim}, {}});
  expect_victim_untouched();
}

TEST_F(Forged, NoFileIsReachedThatWasNotNamed) {
  const auto write_over = [](Ledger& ledger) {
    MemoryStore copy = content(9);
    ledger.append(ledger::RecordKind::before, 1, 0, read_buffer(copy, 0, 4096));
    ledger.append(ledger::RecordKind::after, 1, 0, filled(4096, 'x'));
    for (std::uint32_t i = 0; i < 2; ++i)
      ledger.append_about(ledger::RecordKind::new_size, i, 100'352, 100'352, {});
  };
  for (const bool done : {false, true}) {
    forge({image_path, victim}, 0, true, done, write_over);
    if (done) {
      EXPECT_THROW(undo(host_, image_path, only_image_), Error);
      EXPECT_THROW(check_undo(host_, image_path, only_image_), Error);
    } else {
      EXPECT_THROW(recover(host_, image_path, only_image_), Error);
      EXPECT_THROW(waiting_changes(host_, only_image_), Error);
    }
    expect_victim_untouched();
    host_.remove(std::string(image_path) + ".juneheath");
  }
}

TEST_F(Forged, APointerLeadsToNoLedgerOfOthers) {
  // The ledger lies beside the victim's neighbour and names the image; only the pointer is ours.
  host_.put("/m/b.img", content(5));
  forge({"/m/b.img", image_path}, 0, true, false, [](Ledger& ledger) {
    for (std::uint32_t i = 0; i < 2; ++i)
      ledger.append_about(ledger::RecordKind::new_size, i, 4096, 100'352, {});
  });
  EXPECT_THROW(recover(host_, image_path, only_image_), Error);
  EXPECT_EQ(host_.content("/m/b.img").size(), 100'352U);
  EXPECT_EQ(host_.content(image_path).size(), 100'352U);
}

TEST_F(Forged, APointerToAPointerLeadsNowhere) {
  MemoryStore first(0);
  const std::string to_second = std::string(ledger::pointer_text) + "/m/b.img.juneheath\n";
  first.resize(to_second.size());
  first.write(0, {reinterpret_cast<const std::uint8_t*>(to_second.data()), to_second.size()});
  MemoryStore second(0);
  const std::string to_first = std::string(ledger::pointer_text) + "/m/a.img.juneheath\n";
  second.resize(to_first.size());
  second.write(0, {reinterpret_cast<const std::uint8_t*>(to_first.data()), to_first.size()});
  host_.put("/m/a.img.juneheath", first);
  host_.put("/m/b.img.juneheath", second);
  EXPECT_EQ(recover(host_, image_path, only_image_).result, RecoverResult::nothing_to_do);
}

TEST_F(Forged, ACommittedOneWritesOnlyWhereEveryByteIsKnown) {
  // Behind the image's end there is nothing that could be the old byte of anything.
  forge({image_path}, 0, true, false, [](Ledger& ledger) {
    ledger.append(ledger::RecordKind::before, 0, 50'000, filled(100, 0x55));
    ledger.append(ledger::RecordKind::after, 0, 50'000, filled(100, 0x66));
    ledger.append_about(ledger::RecordKind::new_size, 0, 100'352, 100'352, {});
  });
  EXPECT_THROW(recover(host_, image_path, only_image_), Error);
  EXPECT_TRUE(host_.content(image_path).same_content(content(1)));
}

TEST_F(Forged, RecordsThatLieAreDamageOrRefused) {
  using ledger::RecordKind;
  Le32 sum;
  sum = 7;
  const Buffer packed = pack(Compression::zstd, filled(4096, 1), 4096);
  const std::vector<std::function<void(Ledger&)>> lies{
      [&](Ledger& l) { l.append_about(RecordKind::wrote, 0, 3, 512, bytes_of(sum)); },
      [&](Ledger& l) { l.append_about(RecordKind::wrote, 0, 1ULL << 60, 512, bytes_of(sum)); },
      [&](Ledger& l) { l.append_zero(RecordKind::before_direct, 0, 0, 1ULL << 50); },
      [&](Ledger& l) { l.append_zero(RecordKind::after, 0, 0, 1ULL << 50); },
      [&](Ledger& l) { l.append_about(RecordKind::new_size, 0, UINT64_MAX, 100'352, {}); },
      [&](Ledger& l) { l.append(RecordKind::after, 0, 0, filled(8, 1)); },
      [&](Ledger& l) {
        ledger::MovedTo to{};
        to.image = 0;
        to.offset = UINT64_MAX - 10;
        l.append_about(RecordKind::moved, 0, 0, 512, bytes_of(to));
      },
      [&](Ledger& l) {
        ledger::Spilled spilled{};
        spilled.at = UINT64_MAX - 100;
        l.append_zero(RecordKind::before, 0, 0, 512);
        l.append_about(RecordKind::after, 0, 0, 512, bytes_of(spilled), ledger::flag_spilled);
      },
      [&](Ledger& l) {
        l.append(RecordKind::cut, 0, 100, filled(600, 1));
        l.append(RecordKind::cut, 0, 300, filled(600, 1));
      },
      // Of bytes without the old ones, or with too few of them.
      [&](Ledger& l) { l.append(RecordKind::after, 0, 8192, filled(9000, 1)); },
      [&](Ledger& l) {
        l.append(RecordKind::before, 0, 8192, filled(10, 1));
        l.append(RecordKind::after, 0, 8192, filled(9000, 1));
      },
      // Compressed bytes that are none, are too few, too many, or of a kind that has none such.
      [&](Ledger& l) {
        l.append_about(RecordKind::after, 0, 8192, 4096, filled(40, 1), ledger::flag_compressed);
      },
      [&](Ledger& l) {
        l.append_about(RecordKind::before, 0, 8192, 8192, packed, ledger::flag_compressed);
      },
      [&](Ledger& l) {
        l.append_about(RecordKind::after, 0, 8192, 1ULL << 40, packed, ledger::flag_compressed);
      },
      [&](Ledger& l) {
        l.append_about(RecordKind::cut, 0, 8192, 4096, packed, ledger::flag_compressed);
      },
      [&](Ledger& l) {
        l.append_about(RecordKind::after, 0, 8192, 4096, packed,
                       ledger::flag_compressed | ledger::flag_spilled);
      },
      // The same where all else is as it should be.
      [&](Ledger& l) {
        l.append(RecordKind::before, 0, 8192, filled(4096, 2));
        l.append_about(RecordKind::after, 0, 8192, 4096, packed,
                       ledger::flag_compressed | ledger::flag_spilled);
      },
      [&](Ledger& l) {
        std::array<Le32, 8> sums;
        sums.fill(Le32(crc32c(filled(512, 2))));
        l.append_about(RecordKind::before_direct, 0, 8192, 4096, packed, ledger::flag_compressed);
        l.append_about(RecordKind::wrote, 0, 8192, 4096, bytes_of(sums));
      },
      [&](Ledger& l) {
        l.append(RecordKind::before, 0, 8192, filled(4096, 2));
        l.append_about(RecordKind::after, 0, 8192, 4096, Buffer(packed.begin(), packed.end() - 4),
                       ledger::flag_compressed);
      },
      // Shared bytes that are not there, are not where they would be, are not a whole page, are of
      // a kind that has none such, or are others than the image has.
      [&](Ledger& l) { share_at(l, RecordKind::cut, 0, 65'536, 4096); },
      [&](Ledger& l) { share_at(l, RecordKind::wrote, 0, UINT64_MAX - 65'535, 4096); },
      [&](Ledger& l) { share_at(l, RecordKind::before_direct, 0, 24'576, 4096); },
      [&](Ledger& l) {
        const auto place = l.append_shared(RecordKind::wrote, 0, 0, *victim_, 0, 8192);
        ASSERT_EQ(place.length, 8192U);
        share_at(l, RecordKind::before_direct, 0, place.at, 4096);
      },
      [&](Ledger& l) {
        share_at(l, RecordKind::wrote, 4096, round_up(l.length() + 56, 65'536), 1000);
        l.append_shared(RecordKind::wrote, 0, 16'384, *victim_, 0, 8192);
      },
      [&](Ledger& l) { l.append_shared(RecordKind::after, 0, 0, *victim_, 0, 8192); },
      [&](Ledger& l) { l.append_shared(RecordKind::assigned, 0, 0, *victim_, 0, 8192); },
      [&](Ledger& l) { l.append_shared(RecordKind::cut, 0, 0, *victim_, 0, 8192); },
      [&](Ledger& l) { l.append_shared(RecordKind::wrote, 0, 1000, *victim_, 0, 8192); },
      [&](Ledger& l) { l.append_shared(RecordKind::wrote, 0, 98'304, *victim_, 0, 8192); },
      // Lengths that no image has.
      [&](Ledger& l) { l.append_checksum(RecordKind::cut_sum, 0, 100'352, 1ULL << 46, false, 7); },
      [&](Ledger& l) { l.append_zero(RecordKind::cut, 0, 100'352, 1ULL << 60); },
      [&](Ledger& l) { l.append_zero(RecordKind::before_direct, 0, 0, 1ULL << 60); }};
  for (std::size_t i = 0; i < lies.size(); ++i)
    for (const bool done : {false, true})
      for (const FrontIs front : {FrontIs::unknown, FrontIs::open, FrontIs::closed}) {
        if (done && front != FrontIs::unknown) continue;  // its first pages are open again
        SCOPED_TRACE(i);
        expect_useless(lies[i], done, front);
      }
}

// Shared bytes are what the image must have, however the ledger came by them.
TEST_F(Forged, SharedBytesThatAreNotTheImagesAreRefused) {
  for (const bool done : {false, true}) {
    SCOPED_TRACE(done);
    expect_useless(
        [&](Ledger& ledger) {
          ledger.append_shared(ledger::RecordKind::wrote, 0, 8192, *victim_, 0, 8192);
        },
        done, FrontIs::closed);
  }
  expect_victim_untouched();
}

// A change with everything in it, up to its seal, with the power cut at one of its operations.
void change(FaultHost& host, bool keep_undo) {
  const auto file = host.open(image_path, Access::read_write);
  Transaction transaction(host, {image_path}, {file.get()});
  Stage& stage = transaction.stage(0);
  stage.write(100, filled(5000, 0xA1));
  stage.write_unreferenced(4096 * 9, filled(4096, 0xB2));
  stage.write_unreferenced(4096 * 15, filled(4096, 0xB3));
  stage.resize(80'000);
  stage.write(70'000, filled(3000, 0xC3));
  transaction.seal(silent, keep_undo);
}

constexpr const char* closed_text = "juneheath: this image is in the middle";

// The image without what says, in its first page, that a change is going on.
void open_front(MemoryStore& now, MemoryStore old) {
  for (std::uint64_t at = 0; at < 4096; at += 512)
    if (now.size() >= at + 512 && holds(now, at, closed_text))
      now.write(at, read_buffer(old, at, 512));
}

// Whatever somebody does to the image between the cut and recover: the result is exactly what he
// left (the change was dropped, or it is refused), or the new state with his byte in it.
class WorldMovesOn : public testing::TestWithParam<bool> {};

TEST_P(WorldMovesOn, BetweenACutAndRecover) {
  const bool keep_undo = GetParam();
  FaultHost whole;
  whole.put(image_path, content(1));
  whole.cut_at(0, Unflushed::kept);
  change(whole, keep_undo);
  const std::uint64_t operations = whole.operations();
  const MemoryStore fresh(whole.content(image_path), "new");
  std::mt19937 random(5);
  int dropped = 0;
  int finished = 0;
  int refused = 0;
  std::vector<std::uint64_t> places;  // of what it writes, of what it cuts, of neither
  for (std::uint64_t at = 0; at < 100'352; at += 1771) places.push_back(at);
  for (std::uint64_t n = 1; n <= operations; ++n)
    for (const Unflushed mode : {Unflushed::kept, Unflushed::lost, Unflushed::torn})
      for (std::size_t action = 0; action < places.size() + 4; ++action) {
        FaultHost host;
        host.put(image_path, content(1));
        host.cut_at(n, mode);
        ASSERT_THROW(change(host, keep_undo), PowerCut);
        host.restart(random);
        MemoryStore now(host.content(image_path), "now");
        const std::uint64_t place = action < places.size() ? places[action] : UINT64_MAX;
        if (place < now.size()) {
          Buffer byte = read_buffer(now, place, 1);
          byte[0] ^= 0x5A;
          now.write(place, byte);
        } else if (action == places.size()) {
          now.assign(content(1));  // an older copy
        } else if (action == places.size() + 1) {
          now.assign(content(77));  // another image
        } else if (action == places.size() + 2) {
          now.resize(now.size() + 40'000);
          now.write(now.size() - 100, filled(100, 0x99));
        } else if (action == places.size() + 3) {
          now.resize(now.size() - 30'000);
        } else {
          continue;
        }
        host.overwrite(image_path, now);
        try {
          const RecoverResult result = recover(host, image_path, {{image_path}, {}}).result;
          // A change that was not begun gives back what stood where it said so.
          if (result == RecoverResult::dropped) open_front(now, content(1));
          if (result == RecoverResult::finished && !host.content(image_path).same_content(now)) {
            // The new state, but for the byte that is somebody else's and not the change's.
            MemoryStore expected(fresh, "expected");
            if (place < fresh.size()) expected.write(place, read_buffer(now, place, 1));
            // Or, where all was written but the first page: what he left, with that page.
            open_front(now, MemoryStore(fresh, "new"));
            ASSERT_TRUE(host.content(image_path).same_content(expected) ||
                        host.content(image_path).same_content(now))
                << n << " " << action;
            ++finished;
          } else {
            ASSERT_TRUE(host.content(image_path).same_content(now)) << n << " " << action;
            ++dropped;
          }
        } catch (const Error& error) {
          ASSERT_EQ(error.status(), Status::refused) << error.what();
          ASSERT_TRUE(host.content(image_path).same_content(now)) << n << " " << action;
          ++refused;
        }
        // The undo gives back the old state with his byte, or refuses.
        const MemoryStore before_undo(host.content(image_path), "before undo");
        try {
          undo(host, image_path, {{image_path}, {}});
          MemoryStore old(content(1), "old");
          if (place < fresh.size()) old.write(place, read_buffer(now, place, 1));
          ASSERT_TRUE(host.content(image_path).same_content(old)) << n << " " << action;
        } catch (const Error&) {
          ASSERT_TRUE(host.content(image_path).same_content(before_undo)) << n << " " << action;
        }
      }
  EXPECT_GT(dropped, 100);
  EXPECT_GT(refused, 100);
  EXPECT_GT(finished, 10);
}

INSTANTIATE_TEST_SUITE_P(Undo, WorldMovesOn, testing::Bool(), [](const auto& kept) {
  return std::string(kept.param ? "Kept" : "NotKept");
});

// A look without a lock, while another command goes on at any point: never damage, never "no such
// file"; the ledger as it was, as it is, or, when it was removed, none.
TEST(BusyLedger, IsSeenAsItStands) {
  using State = Ledger::State;
  struct Turn {
    std::function<void(Ledger&)> act;
    State state;  // opened: or none
  };
  const auto commit = [](Ledger& l) { l.commit(/*with_undo=*/true); };
  const auto finish = [](Ledger& l) {
    l.commit(/*with_undo=*/true);
    l.mark_applied();
    l.mark_done();
  };
  const std::vector<Turn> turns{
      {commit, State::committed},
      {finish, State::done},
      {[](Ledger& l) { l.remove(); }, State::opened},
  };
  for (const Turn& turn : turns)
    for (const bool before : {false, true})
      for (const bool second : {false, true}) {
        FaultHost host;
        const std::vector<std::string> paths{image_path, "/n/b.img"};
        std::vector<std::unique_ptr<Store>> files;
        std::vector<Store*> stores;
        for (const std::string& path : paths) {
          host.put(path, content(1));
          files.push_back(host.open(path, Access::read_write));
          stores.push_back(files.back().get());
        }
        const auto ledger = Ledger::create(host, paths, stores);
        ledger->append(ledger::RecordKind::after, 0, 0, filled(4096, 7));  // not written yet
        host.meanwhile([&] { turn.act(*ledger); }, before);
        const auto seen = Ledger::open(host, paths[second ? 1 : 0], /*tidy=*/false);
        if (turn.state == State::opened) {
          EXPECT_TRUE(!seen || seen->state() == State::opened);
          continue;
        }
        ASSERT_NE(seen, nullptr) << before << second;
        EXPECT_TRUE(seen->state() == turn.state || seen->state() == State::opened);
        EXPECT_EQ(seen->id(), ledger->id());
      }
}

}  // namespace
}  // namespace jh::test

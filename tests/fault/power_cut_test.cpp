// The power goes at every single write, flush, creation, renaming and removal of a change, with
// unflushed writes kept, lost or torn. After recover the images are the old or the new ones.
#include "core/change/carry_out.h"
#include "core/plan/grow.h"
#include "core/store/transaction.h"
#include "support/changes.h"
#include "support/power_cuts.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

void grow(FaultHost& host, const GrowRequest& request) {
  const auto file = host.open(first_image, Access::read_only);
  const Guest guest({{first_image, file.get()}});
  const Plan plan = plan_growth(guest, request);
  carry_out(host, guest, plan, request, silent);
}

// After every cut one of the allowed contents is there.
void cut_everywhere(const PowerCuts::Work& prepare, const PowerCuts::Work& work,
                    const std::vector<const MemoryStore*>& allowed, bool to_the_byte) {
  const PowerCuts cuts(prepare, work);
  ASSERT_GT(cuts.operations(), 10U);
  std::vector<std::uint64_t> outcomes(allowed.size());
  std::vector<std::uint64_t> points;
  for (std::uint64_t n = 1; n <= cuts.operations(); n += stride_of(13)) points.push_back(n);
  cuts.everywhere({.fates = all_fates, .points = points}, [&](FaultHost& host, std::uint64_t n) {
    if (n % 5 == 0)
      recover_with_a_cut(host, first_image, 1 + n % 9);
    else
      recover(host, first_image);
    std::size_t which = allowed.size();
    for (std::size_t i = 0; i < allowed.size(); ++i)
      if (host.content(first_image).same_content(*allowed[i])) which = i;
    if (which == allowed.size() && !to_the_byte) {
      FaultHost before;
      before.put(first_image, *allowed.front());
      if (same_for_the_guest(before, host, first_image)) which = 0;
    }
    ASSERT_LT(which, allowed.size());
    ++outcomes[which];
    for (const std::string& name : host.names()) ASSERT_FALSE(name.ends_with(".open")) << name;
    ASSERT_EQ(recover(host, first_image), RecoverResult::nothing_to_do);
  });
  for (std::size_t i = 0; i < allowed.size(); ++i)
    EXPECT_GT(outcomes[i], 0U) << "outcome " << i << " was never seen";
  fmt::print("  {} operations, power cut {} times\n", cuts.operations(),
             points.size() * all_fates.size());
}

struct Case {
  const char* name;
  const char* sample;
  std::uint64_t enlarged;  // the file's length before the change; 0: as it is
  bool junk;               // old data in the enlarged part
  const char* to;          // new size; null: use the room
};

class CutPower : public testing::TestWithParam<Case> {};

TEST_P(CutPower, EveryOperationOfAGrowthAndOfItsUndo) {
  const Case& param = GetParam();
  const TempFolder folder;
  unpack_sample(param.sample, folder / "guest.img");
  MemoryStore old = load(folder / "guest.img");
  if (param.enlarged != 0) old.resize(param.enlarged);
  if (param.junk)
    for (std::uint64_t at = 325ULL << 20; at + 400'000 < param.enlarged; at += 3'000'000)
      old.write(at, Buffer(400'000, static_cast<std::uint8_t>(at >> 20)));
  GrowRequest request;
  request.images = {first_image};
  if (param.to != nullptr) request.to = parse_size(param.to);

  FaultHost done;
  done.put(first_image, old);
  grow(done, request);
  const MemoryStore fresh(done.content(first_image), "new");
  ASSERT_FALSE(fresh.same_content(old));
  cut_everywhere([&](FaultHost& host) { host.put(first_image, old); },
                 [&](FaultHost& host) { grow(host, request); }, {&old, &fresh}, false);

  const MemoryStore ledger(done.content(first_image + ".juneheath"), "ledger");
  cut_everywhere(
      [&](FaultHost& host) {
        host.put(first_image, fresh);
        host.put(first_image + ".juneheath", ledger);
      },
      [&](FaultHost& host) { undo(host, first_image); }, {&old, &fresh}, true);
}

INSTANTIATE_TEST_SUITE_P(
    Changes, CutPower,
    testing::Values(Case{"MbrLonger", "heather", 0, false, "1GiB"},
                    Case{"GptLonger", "nestcam", 0, false, "400MiB"},
                    Case{"RoomThatWasThere", "nestcam", 420ULL << 20, false, nullptr},
                    Case{"RoomWithJunk", "nestcam", 400ULL << 20, true, nullptr}),
    by_name);

// All but what the change below calls unreferenced; behind the old end there may be anything.
bool referenced_is(const MemoryStore& now, const MemoryStore& old) {
  MemoryStore cut(now, "now");
  cut.resize(old.size());
  MemoryStore known(old, "old");
  cut.write(40'960, read_buffer(known, 40'960, 8192));
  return cut.same_content(old);
}

// Two images in one change: never half.
TEST(PowerCutTwoImages, AreBothOldOrBothNew) {
  const auto make = [](std::uint8_t seed) {
    MemoryStore store(300'032);
    for (std::uint64_t at = 0; at + 4096 < 300'000; at += 8192) store.write(at, Buffer(4096, seed));
    return store;
  };
  const MemoryStore old_a = make(1);
  const MemoryStore old_b = make(2);
  const auto prepare = [&](FaultHost& host) {
    host.put("/moor/a.img", old_a);
    host.put("/fen/b.img", old_b);
  };
  const auto work = [](FaultHost& host) {
    const auto a = host.open("/moor/a.img", Access::read_write);
    const auto b = host.open("/fen/b.img", Access::read_write);
    Transaction transaction(host, {"/moor/a.img", "/fen/b.img"}, {a.get(), b.get()});
    for (std::size_t i = 0; i < 2; ++i) {
      transaction.stage(i).resize(500'224);
      transaction.stage(i).write(1000, Buffer(9000, 0xAA));
      transaction.stage(i).write_unreferenced(40'960, Buffer(8192, 0xBB));
      transaction.stage(i).write_unreferenced(400'000, Buffer(8192, 0xCC));
    }
    transaction.seal(silent, true);
  };
  PowerCuts cuts(prepare, work);
  const MemoryStore new_a(cuts.whole().content("/moor/a.img"), "a");
  const MemoryStore new_b(cuts.whole().content("/fen/b.img"), "b");
  for (const char* asked : {"/moor/a.img", "/fen/b.img"}) {
    SCOPED_TRACE(asked);
    cuts.everywhere({}, [&](FaultHost& host, std::uint64_t) {
      recover(host, asked);
      recover(host, "/moor/a.img");
      const bool is_old = referenced_is(host.content("/moor/a.img"), old_a) &&
                          referenced_is(host.content("/fen/b.img"), old_b);
      const bool is_new = host.content("/moor/a.img").same_content(new_a) &&
                          host.content("/fen/b.img").same_content(new_b);
      EXPECT_TRUE(is_old || is_new);
    });
  }
}

}  // namespace
}  // namespace jh::test

// The host has a certain room left, from none to enough, and a change of every sort meets the end
// of it: it is refused or fails, says what it left behind, and once there is room again recover
// ends it.
#include "support/changes.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::uint64_t steps = is_sanitized ? 8 : 60;

class FullHost : public testing::TestWithParam<GuestChange> {};

TEST_P(FullHost, IsRefusedOrRecovered) {
  SKIP_UNLESS_TAKEN(3)
  const Contents old = images_of(GetParam());
  FaultHost whole;
  put(whole, old);
  const std::string files = files_of(whole);
  const auto snapshots =
      GetParam().with_snapshots ? snapshots_on(whole) : std::vector<SnapshotSeen>();
  constexpr std::uint64_t plenty = 1ULL << 40;
  whole.leave_room(plenty);
  carry_out_on(whole, GetParam());
  const std::uint64_t needed = (plenty - whole.least_room()) * 9 / 8;
  int done = 0;
  int unchanged = 0;
  int sound = 0;
  int unfinished = 0;
  for (std::uint64_t i = 0; i <= steps; ++i) {
    const std::uint64_t left = needed * i / steps / 512 * 512;
    SCOPED_TRACE(fmt::format("{} bytes left", left));
    FaultHost host;
    put(host, old);
    host.leave_room(left);
    std::optional<Error> error;
    try {
      carry_out_on(host, GetParam());
    } catch (const Error& failure) {
      error = failure;
    }
    host.leave_room({});
    if (!error) {
      ++done;
    } else {
      EXPECT_TRUE(error->status() == Status::io || error->status() == Status::refused)
          << error->what();
      switch (error->outcome()) {
        case Outcome::unchanged:
          ++unchanged;
          for (const auto& [path, content] : old)
            EXPECT_TRUE(host.content(path).same_content(content)) << error->what();
          EXPECT_EQ(recover(host, first_image), RecoverResult::nothing_to_do) << error->what();
          break;
        case Outcome::sound:
          ++sound;
          EXPECT_EQ(recover(host, first_image), RecoverResult::nothing_to_do) << error->what();
          break;
        default:
          ++unfinished;
          EXPECT_NE(recover(host, first_image), RecoverResult::nothing_to_do) << error->what();
      }
    }
    EXPECT_TRUE(files_of(host) == files);
    if (GetParam().with_snapshots) {
      EXPECT_TRUE(snapshots_on(host) == snapshots);
    }
    if (i % 16 == 0) {
      EXPECT_EQ(checker_says(host, images_on(host)), "");
    }
    if (HasFailure()) return;
  }
  fmt::print("  up to {} bytes: {} done, {} unchanged, {} sound, {} unfinished\n", needed, done,
             unchanged, sound, unfinished);
  EXPECT_GT(done, 0);
  EXPECT_GT(unchanged, 0);
}

TEST_P(FullHost, IsFoundBeforeAnythingIsDone) {
  const Contents old = images_of(GetParam());
  FaultHost host;
  put(host, old);
  host.leave_room(0, 0);
  const Error error = expect_error(Status::refused, "", [&] { carry_out_on(host, GetParam()); });
  EXPECT_EQ(error.outcome(), Outcome::unchanged);
  EXPECT_TRUE(same(contents_of(host, true), old)) << "something was left behind";
}

INSTANTIATE_TEST_SUITE_P(Changes, FullHost, testing::ValuesIn(guest_changes()), by_name);

// After a backup that shares blocks with the image, what the seal overwrites needs room of its own:
// that is found before the commit.
TEST(SharedBlocks, NeedRoomThatIsLookedForBeforeTheCommit) {
  const GuestChange& change = guest_changes().front();
  const Contents old = images_of(change);
  FaultHost whole;
  put(whole, old);
  carry_out_on(whole, change);
  int refused = 0;
  int done = 0;
  for (const std::uint64_t told : {0ULL, 4096ULL, 40'000ULL, 1ULL << 20, 1ULL << 30}) {
    FaultHost host;
    put(host, old);
    host.share_blocks();
    // Told so at the seal, after the plan's own look at the host's room.
    bool sealing = false;
    try {
      carry_out_on(host, change, [&](FileSet&) {
        host.leave_room(std::nullopt, told);
        sealing = true;
      });
      ++done;
    } catch (const Error& error) {
      EXPECT_TRUE(sealing);
      EXPECT_EQ(error.status(), Status::refused) << error.what();
      EXPECT_TRUE(same(contents_of(host, true), old)) << told;
      ++refused;
    }
  }
  EXPECT_GE(refused, 2);
  EXPECT_GE(done, 2);
}

}  // namespace
}  // namespace jh::test

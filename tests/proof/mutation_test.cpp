// The proof is seen to fail: before it looks, the staged result is damaged at random. Whatever the
// system's checker or a comparison of trees would notice, the proof must have refused.
#include "core/change/carry_out.h"
#include "core/plan/grow.h"
#include "core/plan/shrink.h"
#include "support/btrfs_guest.h"
#include "support/changes.h"
#include "support/fault_host.h"
#include "support/same_guest.h"
#include "support/test.h"
#include "support/xfs_guest.h"

namespace jh::test {
namespace {

constexpr int fewer = is_sanitized ? 10 : 1;

using PlanOf = std::function<Plan(const Guest&, const Words&)>;

struct Case {
  const char* name;
  Words samples;
  int mutations;
  PlanOf plan;
};

void PrintTo(const Case& item, std::ostream* out) { *out << item.name; }

struct Stretch {
  std::uint64_t at = 0;
  std::uint64_t length = 0;
};

// What is done to the staged files: where the change has written, or anywhere.
class Damage {
 public:
  explicit Damage(std::mt19937& random) : random_(random) {}

  void operator()(FileSet& files) {
    const auto stages = files.stages();
    Stage& stage = *stages[random_() % stages.size()];
    std::vector<Stretch> written;
    stage.for_each_change([&](const Stage::Change& change) {
      written.push_back({change.offset, change.length});
    });
    stage.for_each_direct([&](std::uint64_t at, std::uint64_t length) {
      written.push_back({at, length});
    });
    std::uint64_t at = random64() % stage.size();
    if (!written.empty() && random_() % 4 != 0) {
      const Stretch& stretch = written[random_() % written.size()];
      at = stretch.at + random64() % stretch.length;
    }
    at = std::min(at, stage.size() - 1);
    switch (random_() % 5) {
      case 0:
        flip(stage, at, static_cast<std::uint8_t>(1U << random_() % 8));
        break;
      case 1:
        flip(stage, at, static_cast<std::uint8_t>(1 + random_() % 255));
        break;
      case 2:
        add_one(stage, at / 4 * 4);
        break;
      case 3:
        copy_block(stage, at, random64() % stage.size());
        break;
      default:
        clear(stage, at);
    }
  }

  const std::string& what() const { return what_; }

 private:
  std::uint64_t random64() { return std::uint64_t{random_()} << 32 | random_(); }

  void flip(Stage& stage, std::uint64_t at, std::uint8_t bits) {
    Buffer byte = read_buffer(stage, at, 1);
    byte[0] ^= bits;
    stage.write(at, byte);
    what_ = fmt::format("{}: byte {} flipped by {:02x}", stage.name(), at, bits);
  }
  // A count, or a place, off by one.
  void add_one(Stage& stage, std::uint64_t at) {
    if (at + 4 > stage.size()) return;
    auto word = read_as<Le32>(stage, at);
    word = word.value() + 1;
    stage.write(at, bytes_of(word));
    what_ = fmt::format("{}: word at {} off by one", stage.name(), at);
  }
  void copy_block(Stage& stage, std::uint64_t at, std::uint64_t from) {
    constexpr std::uint64_t block = 1024;
    at = std::min(at / block * block, stage.size() - block);
    from = std::min(from / block * block, stage.size() - block);
    stage.write(at, read_buffer(stage, from, block));
    what_ = fmt::format("{}: block at {} copied from {}", stage.name(), at, from);
  }
  void clear(Stage& stage, std::uint64_t at) {
    const std::uint64_t length = std::min<std::uint64_t>(1 + random_() % 64, stage.size() - at);
    stage.write(at, Buffer(length));
    what_ = fmt::format("{}: {} bytes at {} cleared", stage.name(), length, at);
  }

  std::mt19937& random_;
  std::string what_ = "nothing";
};

class Mutation : public testing::TestWithParam<Case> {
 protected:
  void SetUp() override {
    const TempFolder folder;
    if (GetParam().samples.front().ends_with("-filled") && !can_mount())
      GTEST_SKIP() << "no mounts here";
    for (const std::string& sample : GetParam().samples) {
      const std::string path = "/moor/" + sample;
      if (sample == "qcow2 with snapshots") {
        const auto& all = guest_changes();
        const auto kept = std::find_if(all.begin(), all.end(), [](const GuestChange& change) {
          return change.with_snapshots;
        });
        images_.emplace_back(path, MemoryStore(images_of(*kept).at(first_image), path));
        paths_.push_back(path);
        continue;
      }
      if (sample == "small")
        make_ext(folder / sample, 24U << 20, {"-b", "1024", "-N", "800"});
      else if (sample == "btrfs-single")
        make_btrfs(folder / sample, 200U << 20, {"-m", "single"});
      else if (sample == "btrfs-filled")
        fill(folder / sample);
      else if (sample == "xfs-filled")
        fill_xfs(folder / sample);
      else if (sample == "xfs")
        make_xfs(folder / sample, 304U << 20, {"-m", "rmapbt=1"});
      else
        unpack_sample(sample, folder / sample);
      images_.emplace_back(path, MemoryStore(load(folder / sample), path));
      paths_.push_back(path);
    }
  }
  // Chunks with room in them, so that a shrink empties some.
  static void fill(const std::string& image) {
    std::mt19937 random{7};
    make_lived_in_btrfs(image, 300U << 20, {"Filled", {"-m", "single"}, ""}, random, 160);
  }
  static void fill_xfs(const std::string& image) {
    Words options{"-m", "rmapbt=1", "-d", "agcount=5"};
    if (kernel_knows_parents() && seed_of_run() % 2 == 0) options.emplace_back(with_parents);
    make_xfs(image, 400U << 20, options, false);
    std::mt19937_64 random{7};
    live_in_xfs(image, random);
  }
  void put(FaultHost& host) const {
    for (const auto& [path, content] : images_) host.put(path, content);
  }
  void change(FaultHost& host, const BeforeProof& damage) const {
    HostFileResolver resolver(host);
    std::vector<std::unique_ptr<Store>> files;
    std::vector<Guest::Image> disks;
    for (const std::string& path : paths_) {
      files.push_back(host.open(path, Access::read_only));
      disks.push_back({path, files.back().get(), false, &resolver});
    }
    const Guest guest(disks);
    const Plan plan = GetParam().plan(guest, paths_);
    ChangeOptions options;
    carry_out(host, guest, plan, options, silent, damage);
  }
  std::string found(FaultHost& host) const {
    std::string all;
    try {
      all = what_the_guests_disks_hold(host, paths_);
    } catch (const Error& error) {
      all = error.what();
    }
    return all;
  }

  std::vector<std::pair<std::string, MemoryStore>> images_;
  Words paths_;
};

TEST_P(Mutation, IsRefusedOrHarmless) {
  const std::uint32_t first = seed_of_run();
  std::mt19937 random(first);
  FaultHost right;
  put(right);
  change(right, {});
  const std::string expected = found(right);
  const auto snapshots_of = [&](FaultHost& host) {
    return GetParam().samples.front() == "qcow2 with snapshots" ? snapshots_on(host, paths_[0])
                                                                : std::vector<SnapshotSeen>();
  };
  const auto snapshots = snapshots_of(right);
  int refused = 0;
  int harmless = 0;
  for (int i = 0; i < rounds_of(GetParam().mutations) / fewer; ++i) {
    FaultHost host;
    put(host);
    Damage damage(random);
    bool passed = false;
    try {
      change(host, [&](FileSet& files) { damage(files); });
      passed = true;
    } catch (const Error& error) {
      ASSERT_TRUE(error.status() == Status::damaged || error.status() == Status::refused ||
                  error.status() == Status::unsupported)
          << error.what() << "\n"
          << damage.what();
      ASSERT_EQ(error.outcome(), Outcome::unchanged) << damage.what();
      for (const auto& [path, content] : images_)
        ASSERT_TRUE(host.content(path).same_content(content)) << damage.what();
      ++refused;
    }
    if (!passed) continue;
    ++harmless;
    EXPECT_TRUE(snapshots_of(host) == snapshots) << damage.what();
    if (same_where_used(right, host, paths_)) continue;
    EXPECT_EQ(checker_says(host, paths_), "") << damage.what() << ", mutation " << i;
    EXPECT_TRUE(found(host) == expected) << damage.what() << ", mutation " << i;
    if (HasFailure()) return;
  }
  // About one in six; of few rounds a tenth may be less by chance.
  EXPECT_GT(refused, rounds_of(GetParam().mutations) / fewer / 16);
  fmt::print("  {} refused, {} harmless\n", refused, harmless);
}

PlanOf grows(const char* to, const Words& gives) {
  return [=](const Guest& guest, const Words& paths) {
    GrowRequest request;
    request.images = paths;
    request.to = parse_size(to);
    request.disk = 0;
    request.disk_chosen = true;
    for (const std::string& give : gives) request.gives.push_back(parse_give(give));
    // Where a disk does not hold what would have to move, it makes no difference.
    request.allow_move = gives.size() > 1;
    return plan_growth(guest, request);
  };
}

PlanOf shrinks(bool moves) {
  return [=](const Guest& guest, const Words& paths) {
    ShrinkRequest request;
    request.images = paths;
    request.disk = 0;
    request.disk_chosen = true;
    request.to_floor = true;
    request.allow_move = moves;
    return plan_shrink(guest, request);
  };
}

INSTANTIATE_TEST_SUITE_P(
    Changes, Mutation,
    testing::Values(
        Case{"GrowSmall", {"small"}, 1100, grows("60MiB", {})},
        Case{"GrowSnapshots", {"qcow2 with snapshots"}, 300, grows("64MiB", {"disk"})},
        Case{"GrowMbr", {"heather"}, 300, grows("300MiB", {})},
        Case{"GrowGpt", {"nestcam"}, 200, grows("400MiB", {})},
        Case{"ShrinkSmall", {"small"}, 1000, shrinks(false)},
        Case{"Move", {"mbr-extended"}, 150, shrinks(true)},
        Case{"MakeRoom", {"swap-behind"}, 150, grows("160MiB", {"/=20MiB", "swap=4MiB"})},
        Case{"TwoGroups", {"two-groups"}, 200, grows("200MiB", {"/srv/rings=44MiB", "/"})},
        Case{"GrowNtfs", {"ntfs-desk"}, 300, grows("60MiB", {"disk"})},
        Case{"GrowXfs", {"xfs"}, 1000, grows("900MiB", {"disk"})},
        Case{"GrowBtrfs", {"btrfs-single"}, 400, grows("500MiB", {"disk"})},
        // Inodes get other numbers, and folders follow.
        Case{"ShrinkXfs", {"xfs-filled"}, 120, shrinks(false)},
        // Chunks are emptied, and others move.
        Case{"ShrinkBtrfs", {"btrfs-filled"}, 150, shrinks(false)},
        Case{"ShrinkNtfs", {"ntfs-512"}, 200, shrinks(false)},
        Case{"ShrinkNtfsOfSmallFiles", {"ntfs-crowded"}, 20, shrinks(false)},
        Case{"GrowVolumes",
             {"two-disk-a", "two-disk-b"},
             250,
             grows("416MiB", {"/scratch=16MiB", "/=rest"})}),
    by_name);

}  // namespace
}  // namespace jh::test

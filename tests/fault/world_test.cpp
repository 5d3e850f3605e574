// The power goes at an operation of a change, and the world moves on before anybody says "recover":
// the guest runs, an image is replaced, lengthened, carried away, another command comes first. Then
// recover, and undo, end with the old or the new disk and all that was written in between, or they
// refuse and leave every byte as they found it.
#include "support/changes.h"
#include "support/guest_writes.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::uint64_t usual_share = is_sanitized ? 40 : 16;

const std::string& second = second_image;
const std::string late_file = "written-meanwhile";

// Of two lists of files: the first line that they have not in common.
std::string first_difference(const std::string& a, const std::string& b) {
  std::istringstream left(a);
  std::istringstream right(b);
  for (std::string one, other;;) {
    const bool more = static_cast<bool>(std::getline(left, one));
    if (static_cast<bool>(std::getline(right, other)) != more || (more && one != other))
      return one + " / " + other;
    if (!more) return {};
  }
}

// What somebody does meanwhile, and what must be there afterwards unless it is refused.
struct ExternalAction {
  std::string name;
  std::function<void(FaultHost&)> act;
  // Whether what he wrote is still there.
  std::function<bool(FaultHost&)> still_there = [](FaultHost&) { return true; };
  bool keeps_files = true;  // what the guest's folders held is there still
};

std::uint8_t byte_at(FaultHost& host, const std::string& path, std::uint64_t at) {
  if (!host.exists(path)) return 0;
  const auto file = host.open(path, Access::read_only);
  return at < file->size() ? read_buffer(*file, at, 1)[0] : 0;
}

class World : public testing::TestWithParam<GuestChange> {
 protected:
  void SetUp() override {
    old_ = images_of(GetParam());
    FaultHost host;
    put(host, old_);
    files_ = files_of(host);
    ASSERT_FALSE(files_.empty());
    carry_out_on(host, GetParam());
    new_ = contents_of(host, false);
    ledger_end_ = contents_of(host, true);
    ASSERT_EQ(files_of(host), files_);
  }

  std::vector<ExternalAction> deeds(std::mt19937& random) const;
  ExternalAction flip(const std::string& name, const std::string& path, std::uint64_t at) const {
    const auto odd = std::make_shared<std::uint8_t>();
    return {name,
            [=, this](FaultHost& host) {
              if (!host.exists(path)) return;
              const auto file = host.open(path, Access::read_write);
              if (at >= file->size()) return;
              // Neither what was there, nor what the change writes.
              std::uint8_t value = 1;
              while (value == read_buffer(*file, at, 1)[0] || value == byte_of(old_, path, at) ||
                     value == byte_of(new_, path, at))
                ++value;
              file->write(at, ConstByteSpan(&value, 1));
              file->flush();
              *odd = value;
            },
            [=](FaultHost& host) { return *odd == 0 || byte_at(host, path, at) == *odd; }, false};
  }
  static std::uint8_t byte_of(const Contents& contents, const std::string& path, std::uint64_t at) {
    const auto found = contents.find(path);
    if (found == contents.end() || at >= found->second.size()) return 0;
    MemoryStore copy(found->second, "copy");
    return read_buffer(copy, at, 1)[0];
  }
  // A place that the change writes (or leaves alone), in this image.
  std::uint64_t place(std::mt19937& random, const std::string& path, bool written) const {
    MemoryStore before(old_.at(path), "old");
    const auto now = new_.find(path);
    MemoryStore after(now == new_.end() ? old_.at(path) : now->second, "new");
    const std::uint64_t common = std::min(before.size(), after.size());
    for (int tries = 0; tries < 3000; ++tries) {
      const std::uint64_t at = (std::uint64_t{random()} << 16 ^ random()) % common / 512 * 512;
      const std::uint64_t length = std::min<std::uint64_t>(512, common - at);
      const Buffer was = read_buffer(before, at, length);
      const Buffer is = read_buffer(after, at, length);
      if ((was != is) != written) continue;
      for (std::uint64_t i = 0; i < length; ++i)
        if ((was[i] != is[i]) == written) return at + i;
    }
    return 0;
  }

  // After the external action, and recover or undo (in `act`): nothing lost, or nothing done.
  template <class Act>
  void expect_kept(FaultHost& host, const ExternalAction& deed, Act act, bool all_judges);

  Contents old_;
  Contents new_;
  Contents ledger_end_;  // with the ledger of the finished change
  std::string files_;
  int refused_ = 0;
  int done_ = 0;
};

std::vector<ExternalAction> World::deeds(std::mt19937& random) const {
  const bool two = old_.size() > 1;
  const auto all = std::make_shared<std::string>();
  const auto write = [all, this](Words chosen) {
    return [all, chosen, this](FaultHost& host) {
      all->clear();
      if (files_of(host) != files_) return;  // it would miss a filesystem, and not start
      if (guest_writes_files(host, chosen.empty() ? images_on(host) : chosen, late_file, 300'000))
        *all = files_of(host);
    };
  };
  const auto wrote = [all](FaultHost& host) { return all->empty() || files_of(host) == *all; };
  std::vector<ExternalAction> deeds{
      {"nothing", [](FaultHost&) {}},
      {"the guest writes files", write({}), wrote, false},
      flip("a byte that the change writes", first_image, place(random, first_image, true)),
      flip("a byte that it leaves alone", first_image, place(random, first_image, false)),
      flip("the first byte", first_image, 0),
      {"an older copy came back",
       [this](FaultHost& host) {
         for (const auto& [path, content] : old_) host.overwrite(path, content);
       }},
      {"another disk of this size",
       [this](FaultHost& host) {
         MemoryStore other(host.content(first_image).size(), "other");
         for (std::uint64_t at = 0; at + 4096 <= other.size(); at += 1U << 16)
           other.write(at, Buffer(4096, 0x77));
         host.overwrite(first_image, other);
       },
       [](FaultHost& host) {
         return byte_at(host, first_image, 0) == 0x77 &&
                byte_at(host, first_image, 1U << 20) == 0x77;
       },
       false},
      {"it was lengthened",
       [](FaultHost& host) {
         const auto file = host.open(first_image, Access::read_write);
         const std::uint64_t at = file->size();
         file->resize(at + (1U << 16));
         file->write(at, Buffer(1U << 16, 0x5A));
         file->flush();
       },
       [end = std::make_shared<std::uint64_t>()](FaultHost& host) {
         const auto file = host.open(first_image, Access::read_only);
         return file->size() > 1U << 16 && byte_at(host, first_image, file->size() - 1) == 0x5A;
       },
       GetParam().format != ImageFormat::raw},
      {"it was shortened",
       [](FaultHost& host) {
         const auto file = host.open(first_image, Access::read_write);
         file->resize(file->size() - (1U << 16));
         file->flush();
       },
       [](FaultHost&) { return true; }, false},
      {"it was carried away without its ledger",
       [this](FaultHost& host) {
         for (const std::string& name : host.names())
           if (name.find(".juneheath") != std::string::npos) host.remove(name);
       },
       [](FaultHost&) { return true; }, false},
      {"another command came first",
       [this](FaultHost& host) {
         try {
           carry_out_on(host, GetParam());
         } catch (const Error&) {
         }
       }},
      {"it was recovered in another folder, with its ledger, and came back",
       [](FaultHost& host) {
         const auto carry = [&host](const std::string& from, const std::string& to) {
           for (const std::string& name : host.names())
             if (name.starts_with(from)) host.rename(name, to + name.substr(from.size()));
         };
         carry("/moor/", "/fen/");
         try {
           recover(host, "/fen/" + first_image.substr(6));
         } catch (const Error&) {
           // As well as where it was.
         }
         carry("/fen/", "/moor/");
       }},
      {"a copy in its place",
       [](FaultHost& host) {
         const MemoryStore copy(host.content(first_image), "copy");
         host.remove(first_image);
         host.put(first_image, copy);
       }},
  };
  if (two) {
    deeds.push_back({"the other disk's guest writes", write({second}), wrote, false});
    deeds.push_back(flip("a byte of the other disk", second, place(random, second, true)));
    deeds.push_back({"the other disk is not there", [](FaultHost& host) { host.remove(second); },
                     [](FaultHost&) { return true; }, false});
  }
  return deeds;
}

template <class Act>
void World::expect_kept(FaultHost& host, const ExternalAction& deed, Act act, bool all_judges) {
  const Contents found = contents_of(host, false);
  bool refused = false;
  try {
    act();
  } catch (const Error& error) {
    refused = true;
    EXPECT_NE(error.status(), Status::internal) << error.what();
    EXPECT_TRUE(same(contents_of(host, false), found)) << "refused, yet changed: " << error.what();
  }
  ++(refused ? refused_ : done_);
  if (refused) return;
  EXPECT_TRUE(deed.still_there(host)) << "what was written meanwhile is gone";
  if (deed.keeps_files) {
    EXPECT_EQ(first_difference(files_of(host), files_), "");
  }
  if (all_judges && deed.keeps_files) {
    EXPECT_EQ(checker_says(host, images_on(host)), "");
  }
}

TEST_P(World, MovesOnBetweenTheCutAndRecover) {
  const std::uint32_t seed = seed_of_run();
  const std::uint64_t share = takes_all() ? 1 : usual_share;
  std::mt19937 random(seed);
  FaultHost whole;
  put(whole, old_);
  whole.cut_at(0, Unflushed::kept);
  carry_out_on(whole, GetParam());
  const std::uint64_t operations = whole.operations();
  fmt::print("  {} operations, one deed in {}\n", operations, share);
  constexpr std::array modes{Unflushed::kept, Unflushed::lost, Unflushed::torn, Unflushed::each};
  std::uint64_t round = 0;
  for (const std::uint64_t n : points_of(operations, 2, 40)) {
    // The seal is at the end: more of it.
    const std::uint64_t here = n + 40 > operations ? std::max<std::uint64_t>(1, share / 4) : share;
    for (const ExternalAction& deed : deeds(random)) {
      if (random() % (here * 4) != 0) continue;
      const Unflushed mode = modes[random() % modes.size()];
      SCOPED_TRACE(fmt::format("cut at {} of {}, mode {}, {}", n, operations,
                               static_cast<int>(mode), deed.name));
      FaultHost host;
      put(host, old_);
      host.cut_at(n, mode);
      try {
        carry_out_on(host, GetParam());
      } catch (const PowerCut&) {
      }
      host.restart(random);
      deed.act(host);
      expect_kept(
          host, deed, [&] { recover(host, first_image); }, ++round % 16 == 0);
      if (HasFailure()) return;
    }
  }
  fmt::print("  {} done, {} refused\n", done_, refused_);
  EXPECT_GT(done_, 0);
}

TEST_P(World, MovesOnBetweenTheChangeAndItsUndo) {
  const std::uint32_t seed = seed_of_run();
  std::mt19937 random(seed);
  for (int round = 0; round < 2; ++round)
    for (const ExternalAction& deed : deeds(random)) {
      SCOPED_TRACE(deed.name);
      FaultHost host;
      put(host, ledger_end_);
      deed.act(host);
      expect_kept(
          host, deed, [&] { undo_images(host, images_on(host)); }, round == 0);
      if (HasFailure()) return;
    }
  fmt::print("  {} done, {} refused\n", done_, refused_);
}

INSTANTIATE_TEST_SUITE_P(Changes, World, testing::ValuesIn(guest_changes()), by_name);

}  // namespace
}  // namespace jh::test

// Chains of every form, up to five deep, as hypervisors leave them when they make snapshots in
// files: only the top one is ever written, and what the guest sees is the same.
#include "core/store/file_store.h"
#include "core/store/host.h"
#include "support/children.h"
#include "support/containers.h"
#include "support/guest_writes.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {
namespace {

constexpr std::array formats{ImageFormat::qcow2, ImageFormat::vdi, ImageFormat::vmdk,
                             ImageFormat::vhd, ImageFormat::vhdx};

class ChildImages : public testing::Test {
 protected:
  // A guest's disk in a form, the first of a chain.
  void begin(ImageFormat format) {
    format_ = format;
    for (const std::string& image : chain_) files::remove(image);
    chain_.clear();
    const std::string raw = unpack_sample("heather", folder_ / "raw.img");
    size_ = files::file_size(raw);
    chain_.push_back(folder_ / "base");
    succeeds({"recast", raw, chain_[0], "--form", format_name(format), "--quiet"});
    files::remove(raw);
  }
  // One more image, which the guest writes to: a file of its own, and some of what it had already.
  void add_child(std::uint64_t written, std::uint64_t rewritten) {
    chain_.push_back(new_child(top(), fmt::format("child-{}", chain_.size()), format_, size_));
    FileHost host(folder_ / "ledgers");
    ASSERT_TRUE(guest_writes_files(host, {top()}, fmt::format("film-{}", chain_.size()), written));
    rewrite(rewritten);
  }
  // Content comes to be kept again, as it is: blocks of two mebibytes each, the same in all forms.
  void rewrite(std::uint64_t bytes) {
    HostFileResolver resolver(host_, Access::read_only);
    FileStore file(top(), Access::read_write);
    const auto container = open_container(file, &resolver);
    for (std::uint64_t at = 8 * mib; at < 8 * mib + bytes; at += 2 * mib)
      container->disk().write(at, read_buffer(container->disk(), at, 2 * mib));
    container->disk().flush();
  }
  const std::string& top() const { return chain_.back(); }
  std::vector<std::uint32_t> parents() const {
    std::vector<std::uint32_t> digests;
    for (std::size_t i = 0; i + 1 < chain_.size(); ++i) digests.push_back(file_digest(chain_[i]));
    return digests;
  }
  std::string found() { return what_the_guest_finds(host_, top()); }
  Words on_top(Words words) const {
    words.insert(words.begin() + 1, top());
    if (words[0] != "survey" && words[0] != "audit") words.emplace_back("--yes");
    return words;
  }
  ProgramResult run(const Words& words) const { return juneheath(on_top(words)); }
  // Holds for every command: the parents are as they were, the guest has its files.
  void expect_kept(const std::vector<std::uint32_t>& digests, const std::string& files) {
    EXPECT_EQ(parents(), digests) << "a parent was written to";
    EXPECT_EQ(found(), files);
    expect_status(0, on_top({"audit"}));
  }

  TempFolder folder_;
  FileHost host_{folder_ / "ledgers"};
  ImageFormat format_ = ImageFormat::raw;
  Words chain_;
  std::uint64_t size_ = 0;
};

class Children : public ChildImages, public testing::WithParamInterface<ImageFormat> {};

// What the parent holds as well loses its place in the child; what is the guest's alone stays.
TEST_P(Children, CompactingLetsGoWhatTheParentHasToo) {
  begin(GetParam());
  add_child(3'000'000, 40 * mib);
  const auto digests = parents();
  const std::string files = found();
  const std::uint64_t before = files::file_size(top());
  const ProgramResult plan = succeeds({"compact", top(), "--dry-run", "--json"});
  succeeds(on_top({"compact"}), {"the same as in the parent"});
  const std::uint64_t after = files::file_size(top());
  EXPECT_LT(after + 20 * mib, before);
  const auto said = nlohmann::json::parse(plan.out);
  EXPECT_EQ(said["images"][0]["length_after"], after) << said.dump(1);
  expect_kept(digests, files);
  EXPECT_EQ(checker_says(host_, {top()}), "");
  const auto states = nlohmann::json::parse(run({"survey", "--json"}).out)["disks"][0]["states"];
  ASSERT_EQ(states.size(), 2U);
  EXPECT_EQ(states[0]["kind"], "parent");
  EXPECT_EQ(states[1]["kind"], "active");
  EXPECT_EQ(states[1]["alone"], after);
  // A second time there is nothing left to let go.
  const ProgramResult again = expect_status(0, on_top({"compact"}));
  EXPECT_EQ(files::file_size(top()), after);
  EXPECT_FALSE(again.said("the same as in the parent")) << again.out;
}

// By chance: depths, what is written on each storey, and what is done then; in all forms 100
// chains.
TEST_P(Children, OfAnyDepthKeepTheirParentsAndTheirFiles) {
  std::mt19937 random(seed_of_run());
  const char* more = std::getenv("JUNEHEATH_SEQUENCES");
  const int chains = more != nullptr ? std::stoi(more) : 20;
  for (int i = 0; i < chains; ++i) {
    begin(GetParam());
    const std::size_t depth = 1 + random() % 5;
    SCOPED_TRACE(fmt::format("chain {}: {}, depth {}", i, format_name(format_), depth));
    while (chain_.size() <= depth) add_child(random() % 2'000'000, random() % 8 * 2 * mib);
    const auto digests = parents();
    std::string files = found();
    for (std::size_t below = 0; below + 1 < chain_.size(); ++below)
      for (const char* command : {"compact", "grow"}) {
        Words words{command, chain_[below], "--yes"};
        if (words[0] == "grow") words.insert(words.end(), {"--by", "64MiB"});
        expect_status(3, words, {"builds on this image"});
      }
    for (int step = 0; step < 3; ++step) {
      const std::uint32_t was = file_digest(top());
      const unsigned kind = random() % 4;
      if (kind == 0) {
        expect_status(0, on_top({"compact"}));
      } else if (kind == 1) {
        const ProgramResult done = run({"grow", "--by", fmt::format("{}MiB", 1 + random() % 300)});
        if (format_ == ImageFormat::qcow2) {
          ASSERT_EQ(done.status, 0) << done.err;
          files = found();
          size_ = 0;  // another one than its parents'
        } else {
          EXPECT_EQ(done.status, 3) << done.out;
          EXPECT_TRUE(done.said("builds on")) << done.err;
        }
      } else if (kind == 2) {
        const ProgramResult done = run({"shrink", "--to", "floor+16MiB"});
        if (format_ == ImageFormat::qcow2) {
          EXPECT_TRUE(done.status == 0 || done.said("no larger than that already")) << done.err;
          files = found();
        } else {
          EXPECT_EQ(done.status, 3) << done.out;
        }
      } else {
        FileHost host(folder_ / "ledgers");
        if (guest_writes_files(host, {top()}, fmt::format("note-{}", step), 200'000))
          files = found();
      }
      if (kind != 3 && kind != 0 && format_ != ImageFormat::qcow2) {
        EXPECT_EQ(file_digest(top()), was);
      }
      expect_kept(digests, files);
      if (HasFailure()) return;
    }
    EXPECT_EQ(checker_says(host_, {top()}), "");
  }
}

INSTANTIATE_TEST_SUITE_P(Forms, Children, testing::ValuesIn(formats),
                         [](const auto& test) { return std::string(format_name(test.param)); });

}  // namespace
}  // namespace jh::test

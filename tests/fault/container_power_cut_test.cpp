// The power goes at every single operation of the growth of an image, in every form: afterwards its
// files are byte for byte the old ones, or they are a sound image of the new size with all that was
// in it.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "core/change/carry_out.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/read.h"
#include "core/plan/grow.h"
#include "core/store/transaction.h"
#include "support/changes.h"
#include "support/fault_images.h"
#include "support/judges.h"
#include "support/sizes.h"

namespace jh::test {
namespace {

constexpr std::uint64_t new_size = 20U << 20;

// A small filesystem on a whole disk.
const MemoryStore& small_disk() {
  static const MemoryStore disk = [] {
    const TempFolder folder;
    const std::string path = folder / "small.img";
    make_ext(path, 12U << 20, {"-b", "1024", "-N", "128"}, /*filled=*/false);
    return load(path);
  }();
  return disk;
}

void grow(FaultHost& host) {
  HostFileResolver resolver(host);
  const auto file = host.open(first_image, Access::read_only);
  const Guest guest({{first_image, file.get(), false, &resolver}});
  GrowRequest request;
  request.images = {first_image};
  request.to = Bytes(new_size);
  const Plan plan = plan_growth(guest, request);
  NullProgress silent;
  carry_out(host, guest, plan, request, silent);
}

class ContainerPowerCut : public FaultImages {
 protected:
  void SetUp() override { keep(small_disk()); }
  static bool is_new(FaultHost& host) {
    HostFileResolver resolver(host);
    const auto file = host.open(first_image, Access::read_only);
    const auto container = open_container(*file, &resolver);
    if (container->disk().size() != new_size) return false;
    Findings findings;
    container->audit(findings);
    ext::Filesystem fs(container->disk());
    NullProgress silent;
    ext::audit(fs, {}, findings, silent);
    EXPECT_TRUE(findings.clean()) << findings.kept().front().what;
    return findings.clean() && fs.geometry().blocks * fs.geometry().block_size == new_size;
  }
};

TEST_P(ContainerPowerCut, OldOrNew) {
  FaultHost whole;
  put(whole);
  whole.cut_at(0, Unflushed::kept);
  grow(whole);
  const std::uint64_t operations = whole.operations();
  ASSERT_TRUE(is_new(whole));
  undo(whole, first_image);
  ASSERT_TRUE(is_identical(whole));
  std::mt19937 random(20261123);
  std::uint64_t kept_old = 0;
  std::uint64_t became_new = 0;
  for (std::uint64_t n = 1; n <= operations; n += stride_of(3)) {
    for (const Unflushed mode :
         {Unflushed::kept, Unflushed::lost, Unflushed::torn, Unflushed::each}) {
      FaultHost host;
      put(host);
      host.cut_at(n, mode);
      try {
        grow(host);  // identities are random: the last operations may not come to it
      } catch (const PowerCut&) {
      }
      host.restart(random);
      recover(host, first_image);
      if (is_old(host)) {
        ++kept_old;
      } else {
        ASSERT_TRUE(is_new(host)) << fmt::format("cut at {} of {}, mode {}", n, operations,
                                                 static_cast<int>(mode));
        ++became_new;
      }
    }
  }
  EXPECT_GT(kept_old, 0U);
  EXPECT_GT(became_new, 0U);
  fmt::print("  {} operations; {} times old, {} times new\n", operations, kept_old, became_new);
}

INSTANTIATE_TEST_SUITE_P(Forms, ContainerPowerCut, testing::ValuesIn(kinds()),
                         [](const auto& param) { return param.param.name; });

}  // namespace
}  // namespace jh::test

// The built program, ended on the spot at every call that writes or flushes.
#include <gtest/gtest.h>

#include <filesystem>

#include "support/program.h"
#include "support/samples.h"

namespace jh::test {
namespace {

TEST(StoppedProgram, RecoversToOldOrNew) {
#ifdef JUNEHEATH_SANITIZED
  GTEST_SKIP() << "preloading and the sanitizer's own library do not go together";
#endif
  const TempFolder folder;
  const std::string image = folder / "guest.img";
  const auto fresh_start = [&] {
    for (const auto& entry : std::filesystem::directory_iterator(folder.path()))
      if (entry.path().filename() != "base.img") std::filesystem::remove(entry.path());
    run({"cp", "--sparse=always", folder / "base.img", image});
  };
  unpack_sample("heather", folder / "base.img");
  const std::uint32_t old_digest = file_digest(folder / "base.img");
  fresh_start();
  const std::vector<std::string> command{"grow", image, "--to", "256MiB", "--quiet"};
  const Outcome whole = juneheath(
      command, {{"LD_PRELOAD", JUNEHEATH_STOPPER}, {"JUNEHEATH_STOP_COUNT", folder / "count"}});
  ASSERT_EQ(whole.status, 0) << whole.err;
  const std::uint32_t new_digest = file_digest(image);
  const long calls = std::stol(read_file(folder / "count"));
  ASSERT_GT(calls, 20);
  int olds = 0;
  int news = 0;
  for (long n = 1; n <= calls; ++n) {
    fresh_start();
    const Outcome stopped = juneheath(
        command, {{"LD_PRELOAD", JUNEHEATH_STOPPER}, {"JUNEHEATH_STOP_AT", std::to_string(n)}});
    ASSERT_EQ(stopped.status, 99) << n << stopped.err;
    const Outcome recovered = juneheath({"recover", image});
    ASSERT_EQ(recovered.status, 0) << n << recovered.err;
    const std::uint32_t digest = file_digest(image);
    ASSERT_TRUE(digest == old_digest || digest == new_digest) << "stopped at call " << n;
    ++(digest == old_digest ? olds : news);
  }
  EXPECT_GT(olds, 0);
  EXPECT_GT(news, 0);
}

}  // namespace
}  // namespace jh::test

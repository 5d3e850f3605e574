// Names: fstab, targets, commands to paste.
#include <gtest/gtest.h>

#include "core/guest/fstab.h"
#include "core/guest/target.h"
#include "core/plan/commands.h"
#include "core/plan/plan.h"
#include "library/command_text.h"

namespace jh::test {
namespace {

TEST(Fstab, ReadsWhatCounts) {
  const auto entries = parse_fstab(
      "# comment\n"
      "UUID=1234 / ext4 errors=remount-ro 0 1\n"
      "\n"
      "LABEL=\"nest\\040films\" /srv/nest\\040films ext4 defaults\n"
      "/dev/sda2 none swap sw 0 0\n"
      "broken line\n"
      "/dev/mapper/a-b /b");
  ASSERT_EQ(entries.size(), 3U);
  EXPECT_EQ(entries[0].device, "UUID=1234");
  EXPECT_EQ(entries[1].mount_point, "/srv/nest films");
  EXPECT_EQ(entries[2].type, "swap");
}

TEST(Targets, AmountsAreRead) {
  EXPECT_EQ(parse_give("/var").amount.kind, Amount::Kind::rest);
  EXPECT_EQ(parse_give("/var/").target, "/var");
  EXPECT_EQ(parse_give("/").target, "/");
  const Give size = parse_give("/var=20GiB");
  EXPECT_EQ(size.target, "/var");
  EXPECT_EQ(size.amount.size, 20_GiB);
  EXPECT_EQ(parse_give("p3=12.5%").amount.hundredths, 1250U);
  EXPECT_EQ(parse_give("label:a=b=rest").target, "label:a=b");
  for (const char* wrong : {"", "=5G", "/=0%", "/=101%", "/=x", "/=1.234%", "/=%"})
    EXPECT_THROW(parse_give(wrong), Error) << wrong;
}

TEST(Commands, AreReadyForTheShell) {
  EXPECT_EQ(shell_word("/srv/heath.img"), "/srv/heath.img");
  EXPECT_EQ(shell_word("my disk.img"), "'my disk.img'");
  EXPECT_EQ(shell_word("it's"), "'it'\\''s'");
  GrowRequest request;
  request.images = {"a b.img"};
  request.by = 10_GiB;
  EXPECT_EQ(command_text(command_with(request, "/var=rest")),
            "juneheath grow 'a b.img' --by 10GiB --give /var=rest");
}

}  // namespace
}  // namespace jh::test

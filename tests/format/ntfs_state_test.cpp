// What stands in the way of changing an NTFS volume, and what the guest is to do about it.
#include "cli/terminal.h"
#include "core/fs/ntfs/rest.h"
#include "core/fs/ntfs/shrink.h"
#include "core/guest/content.h"
#include "support/ntfs_place.h"
#include "support/test.h"

namespace jh::test {
namespace {

// The one blocker that there is now.
Error only_blocker(Store& place) {
  const Content content = recognise_content(place);
  if (content.blockers.size() != 1) {
    ADD_FAILURE() << content.blockers.size() << " blockers";
    return Error(Status::internal, "", "", "");
  }
  return content.blockers.front();
}

class NtfsState : public testing::Test {
 protected:
  void SetUp() override { ASSERT_TRUE(recognise_content(place_).blockers.empty()); }
  void set_flags(std::uint16_t flags) {
    edit_ntfs_value(place_, ntfs::file::volume, ntfs::type::volume_information, [&](Buffer& value) {
      auto information = parse_as<ntfs::VolumeInformation>(value, 0);
      information.flags = flags;
      put_at(value, 0, information);
    });
  }

  MemoryStore place_ = ntfs_sample("ntfs-desk");
};

TEST_F(NtfsState, MarkedToBeChecked) {
  set_flags(ntfs::volume_flags::dirty);
  const Error blocker = only_blocker(place_);
  EXPECT_EQ(blocker.reason(), Reason::errors_noted);
  EXPECT_EQ(blocker.status(), Status::refused);
  EXPECT_THAT(cli::text_of(blocker.next()), HasSubstr("let the guest check it"));
  EXPECT_EQ(recognise_content(place_).state, "to be checked");
}

TEST_F(NtfsState, WorkToFinish) {
  set_flags(ntfs::volume_flags::upgrade);
  EXPECT_EQ(only_blocker(place_).reason(), Reason::other);
}

TEST_F(NtfsState, ALogThatIsNotEmpty) {
  ntfs::Filesystem fs(place_);
  const ntfs::Stream log = ntfs::File(fs, fs.read_record(ntfs::file::log)).stream(ntfs::type::data);
  // The maker leaves it filled with ones; the driver as well.
  const auto put_page = [&](std::uint64_t at, std::uint64_t lsn, std::uint16_t flags,
                            std::uint16_t client) {
    Buffer page(4096);
    ntfs::RestartPage header{};
    header.block.magic = {'R', 'S', 'T', 'R'};
    header.block.fixup_offset = std::uint16_t{30};
    header.block.fixup_count = std::uint16_t{9};
    header.system_page_size = 4096U;
    header.log_page_size = 4096U;
    header.area_offset = std::uint16_t{0x30};
    header.major = std::uint16_t{1};
    header.minor = std::uint16_t{1};
    put_at(page, 0, header);
    ntfs::RestartArea area{};
    area.current_lsn = lsn;
    area.client_in_use = client;
    area.flags = flags;
    put_at(page, 0x30, area);
    ntfs::do_fixups(page);
    log.write(at, page);
  };
  put_page(0, 100, 0, 0);
  put_page(4096, 90, ntfs::restart_clean, 0);
  EXPECT_EQ(only_blocker(place_).reason(), Reason::not_unmounted);
  EXPECT_THAT(cli::text_of(only_blocker(place_).next()), HasSubstr("shut it down completely"));
  // The newer page counts; no client, or the mark, says that it is clean.
  put_page(4096, 101, ntfs::restart_clean, 0);
  EXPECT_TRUE(recognise_content(place_).blockers.empty());
  put_page(0, 102, 0, ntfs::no_client);
  EXPECT_TRUE(recognise_content(place_).blockers.empty());
  // Noise in both is not taken for a clean one.
  log.write(0, Buffer(8192, 0x5A));
  EXPECT_THAT(only_blocker(place_).what(), HasSubstr("cannot be read"));
}

// A volume whose system sleeps, one with a store of shadow copies: made by another driver.
class NtfsSleep : public testing::Test {
 protected:
  MemoryStore place_ = ntfs_sample("ntfs-asleep");
  void set_mark(const std::string& mark) {
    Buffer page(4096);
    std::copy(mark.begin(), mark.end(), page.begin());
    place_.write(ntfs_content_at(place_, "hiberfil.sys"), page);
  }
};

TEST_F(NtfsSleep, OnlyAFileWithAnImageCounts) {
  EXPECT_EQ(only_blocker(place_).reason(), Reason::suspended);
  EXPECT_EQ(recognise_content(place_).state, "suspended");
  for (const char* mark : {"HIBR", "hibr", "HORM"}) {
    set_mark(mark);
    EXPECT_THAT(only_blocker(place_).what(), HasSubstr("suspended system"));
    EXPECT_THAT(cli::text_of(only_blocker(place_).next()), HasSubstr("fast startup"));
  }
  set_mark("noise");
  EXPECT_THAT(only_blocker(place_).what(), HasSubstr("is not known"));
  for (const char* mark : {"wake", "WAKE", ""}) {
    set_mark(mark);
    EXPECT_TRUE(recognise_content(place_).blockers.empty()) << mark;
  }
}

TEST_F(NtfsSleep, ShadowCopiesKeepEverythingInItsPlace) {
  set_mark("");
  ntfs::NtfsFilesystem fs(place_);
  ASSERT_TRUE(ntfs::has_shadow_copies(fs.inner()));
  const FilesystemFloor floor = fs.floor();
  EXPECT_THAT(floor.reason, HasSubstr("shadow copies"));
  EXPECT_LT(floor.size, fs.size());
  EXPECT_EQ(fs.plan_resize(floor.size).to_move, Bytes(0));
  expect_error(Status::refused, "shadow copies", [&] { fs.plan_resize(floor.size - fs.unit()); });
  // What is free is what they were made from.
  fs.for_each_free([](std::uint64_t, std::uint64_t) { ADD_FAILURE() << "given away"; });
  place_.resize(place_.size() * 2);
  const ResizePlan plan = fs.plan_resize(Bytes(place_.size()));
  fs.resize(plan.to, silent);
  EXPECT_EQ(audited(ntfs::NtfsFilesystem(place_)), "");
}

TEST_F(NtfsState, AnotherVersion) {
  edit_ntfs_value(place_, ntfs::file::volume, ntfs::type::volume_information, [](Buffer& value) {
    auto information = parse_as<ntfs::VolumeInformation>(value, 0);
    information.major = 1;
    information.minor = 2;
    put_at(value, 0, information);
  });
  const Error blocker = only_blocker(place_);
  EXPECT_EQ(blocker.status(), Status::unsupported);
  EXPECT_THAT(blocker.what(), HasSubstr("1.2"));
  EXPECT_EQ(recognise_content(place_).filesystem(), nullptr);
}

TEST_F(NtfsState, MoreClustersThanCanBeCounted) {
  ntfs::NtfsFilesystem fs(place_);
  expect_error(Status::refused, "32 bits", [&] { fs.plan_resize(17_TiB); });
  const ntfs::Geometry& g = fs.inner().geometry();
  const Bytes most = fs.plan_resize(fs.usable(17_TiB)).to;
  EXPECT_EQ((most.value() - g.sector_size) / g.cluster_size, ntfs::most_clusters);
}

TEST(NtfsEncrypted, AWholeVolumeIsLeftAlone) {
  MemoryStore place(8U << 20);
  place.write(3, ConstByteSpan(reinterpret_cast<const std::uint8_t*>("-FVE-FS-"), 8));
  const Content content = recognise_content(place);
  EXPECT_EQ(content.kind, ContentKind::encrypted);
  EXPECT_EQ(content.filesystem(), nullptr);
}

}  // namespace
}  // namespace jh::test

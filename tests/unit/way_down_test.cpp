// The parts of a plan for the way down, each by itself on the sample guests in memory: what is
// unused, what a block loses, floors, how partitions come to lie side by side, and the steps that
// follow.
#include "core/carry/worker.h"
#include "core/compact/reclaimable.h"
#include "core/container/fill.h"
#include "core/plan/partition_layout.h"
#include "core/plan/shrink.h"
#include "support/containers.h"
#include "support/fault_host.h"
#include "support/test.h"

namespace jh::test {
namespace {

class WayDown : public testing::Test {
 protected:
  void open(const Words& samples) {
    guest_.reset();
    files_.clear();
    request_ = {};
    const TempFolder folder;
    std::vector<Guest::Image> images;
    for (const std::string& sample : samples) {
      const std::string path = "/moor/" + sample;
      unpack_sample(sample, folder / sample);
      host_.put(path, load(folder / sample));
      files_.push_back(host_.open(path, Access::read_only));
      images.push_back({path, files_.back().get()});
      request_.images.push_back(path);
    }
    guest_ = std::make_unique<Guest>(images);
    request_.disk_chosen = true;
  }
  const Layer& place(const std::string& name) const {
    for (const Layer* each : guest_->layers())
      if (guest_->name_of(*each) == name || guest_->best_name(*each) == name) return *each;
    throw std::logic_error("the sample has " + name);
  }
  Plan plan_to_floor(bool moves) {
    request_.to_floor = true;
    request_.allow_move = moves;
    return plan_shrink(*guest_, request_);
  }
  template <class Kind>
  static std::size_t index_of(const Plan& plan) {
    const auto found = std::find_if(plan.steps.begin(), plan.steps.end(),
                                    [](const Step& step) { return step.is<Kind>(); });
    return static_cast<std::size_t>(found - plan.steps.begin());
  }

  FaultHost host_;
  std::vector<std::unique_ptr<Store>> files_;
  std::unique_ptr<Guest> guest_;
  ShrinkRequest request_;
};

TEST_F(WayDown, UnusedIsInOrderAndNeverATableNorABootArea) {
  for (const char* sample :
       {"heather", "nestcam", "fieldstation", "mbr-extended", "mbr-boot-lvm"}) {
    SCOPED_TRACE(sample);
    open({sample});
    const Unused unused = find_unused(*guest_, 0);
    ASSERT_FALSE(unused.ranges.empty());
    const Disk& disk = guest_->disks()[0];
    const Ranges tables = disk.table->own_places();
    std::uint64_t last = 0;
    for (const UnusedRange& range : unused.ranges) {
      EXPECT_GE(range.start, last);
      EXPECT_GT(range.end, range.start);
      EXPECT_LE(range.end, disk.size().value());
      EXPECT_FALSE(overlaps(tables, range.start, range.end)) << range.start;
      last = range.end;
    }
    // In front of the first partition boot loaders keep parts of themselves.
    EXPECT_GE(unused.ranges.front().start, disk.layers.front().offset.value());
    // What lies outside of filesystems is a part of it.
    for (const UnusedRange& range :
         find_unused(*guest_, 0, UnusedWhere::outside_of_filesystems).ranges) {
      const auto [found, reach] = unused.stretch(range.start, range.end - range.start);
      EXPECT_NE(found, nullptr);
      EXPECT_EQ(reach, range.end - range.start);
    }
  }
}

TEST_F(WayDown, StretchesOfUsedAndUnusedCoverTheDisk) {
  open({"heather"});
  const Unused unused = find_unused(*guest_, 0);
  const std::uint64_t size = guest_->disks()[0].size().value();
  std::uint64_t free = 0;
  for (std::uint64_t at = 0; at < size;) {
    const auto [range, reach] = unused.stretch(at, size - at);
    ASSERT_GT(reach, 0U);
    if (range != nullptr) free += reach;
    at += reach;
  }
  EXPECT_EQ(free, unused.bytes());
}

TEST_F(WayDown, ABlockLosesItsPlaceWhenAllOfItIsUnusedOrZero) {
  MemoryStore disk(1U << 20, "disk");
  const Buffer noise(1U << 20, 0x55);
  disk.write(0, noise);
  const auto from = open_container(disk);
  NewContainer wanted;
  wanted.format = ImageFormat::qcow2;
  wanted.disk_size = Bytes(disk.size());
  const auto image = new_image(wanted);
  for (std::uint64_t at = 0; at < disk.size(); at += 65536)
    image->container->disk().write(at, read_buffer(disk, at, 65536));
  // Zeros that are in use, in a block that has a place already.
  image->container->disk().write(3 * 65536, Buffer(65536));
  Unused unused;
  unused.sources = {"free", "other"};
  unused.ranges = {{65536, 2 * 65536, 0},             // a block
                   {5 * 65536 + 1, 6 * 65536, 0},     // all but a byte of one
                   {8 * 65536, 8 * 65536 + 1000, 0},  // one in two parts
                   {8 * 65536 + 1000, 9 * 65536, 1}};
  const Reclaimable drops = find_reclaimable(*image->container, unused, Look::content, silent);
  const Ranges expected{{65536, 2 * 65536}, {3 * 65536, 4 * 65536}, {8 * 65536, 9 * 65536}};
  EXPECT_EQ(drops.ranges, expected);
  EXPECT_EQ(drops.bytes, (std::vector<std::uint64_t>{65536 + 1000, 64536}));
  EXPECT_EQ(drops.zeros, 65536U);
  EXPECT_EQ(drops.as_parent, Ranges{});
  EXPECT_EQ(drops.same, 0U);
  // By the tables alone the same, but for zeros.
  const Reclaimable known = find_reclaimable(*image->container, unused, Look::tables, silent);
  EXPECT_EQ(known.ranges, (Ranges{{65536, 2 * 65536}, {8 * 65536, 9 * 65536}}));
  EXPECT_EQ(known.bytes, drops.bytes);
  EXPECT_EQ(known.zeros, 0U);
}

TEST_F(WayDown, AFloorIsReachedAndNoByteLess) {
  for (const char* sample : {"heather", "nestcam", "fieldstation"}) {
    SCOPED_TRACE(sample);
    open({sample});
    Floors floors(*guest_);
    const LayerFloor floor = floors.of_disk(0);
    EXPECT_FALSE(floor.reason.empty());
    EXPECT_LT(floor.size, guest_->disks()[0].size());
    EXPECT_EQ(plan_to_floor(false).disks[0].to, floor.size);
    request_.to_floor = false;
    request_.to = floor.size - Bytes(512);
    expect_error(Status::refused, "", [&] { plan_shrink(*guest_, request_); });
    for (const Layer* each : guest_->layers()) EXPECT_LE(floors.of(*each).size, each->size);
  }
}

TEST_F(WayDown, WhatNobodyKnowsHasTheFloorThatItHas) {
  open({"mbr-ntfs"});
  Floors floors(*guest_);
  for (const Layer* each : guest_->layers()) {
    if (each->content.filesystem()) continue;
    EXPECT_EQ(floors.of(*each).size, each->size) << guest_->name_of(*each);
    const auto why = no_shrinking(*each);
    ASSERT_TRUE(why.has_value());
    EXPECT_EQ(why->status(), Status::unsupported);
  }
}

TEST_F(WayDown, VolumesHaveFloorsInWholeStripes) {
  open({"two-disk-a", "two-disk-b"});
  Floors floors(*guest_);
  for (const Layer& volume : guest_->groups()[0].volumes) {
    const lvm::Volume& facts = guest_->volume_of(volume);
    const std::uint64_t floor = floors.of_volume(volume);
    EXPECT_GT(floor, 0U);
    EXPECT_LE(floor, facts.extents);
    EXPECT_EQ(floor % facts.segments.front().stripes.size(), 0U) << facts.name;
  }
}

TEST_F(WayDown, PartitionsComeToLieSideBySide) {
  open({"mbr-extended"});
  PartitionLayout lineup(*guest_, 0);
  Floors floors(*guest_);
  std::vector<std::uint32_t> order;
  for (const auto& each : lineup.members()) order.push_back(each.layer->partition->number);
  for (const auto& each : lineup.members())
    if (!each.stays) lineup.cut(*lineup.find(*each.layer), floors.of(*each.layer).size);
  lineup.pack_to_front();
  std::vector<std::uint32_t> packed;
  Sectors last{};
  for (const auto& each : lineup.members()) {
    packed.push_back(each.layer->partition->number);
    EXPECT_GE(each.first, last);
    EXPECT_LE(each.first, each.layer->partition->first) << "towards the front only";
    if (each.stays) {
      EXPECT_EQ(each.first, each.layer->partition->first);
    }
    last = each.end();
  }
  EXPECT_EQ(packed, order);
  EXPECT_EQ(lineup.end(), last);
  const auto chain = lineup.extended(Sectors(1ULL << 32));
  ASSERT_TRUE(chain.has_value());
  for (const NewPlace& logical : chain->logical) {
    EXPECT_GT(logical.first, chain->outer.first);
    EXPECT_LE(logical.end, chain->outer.end);
  }
  EXPECT_LT(packed_floor(*guest_, floors, 0).size, floors.of_disk(0).size);
}

// From the inside out: what is in a place first, the place, the table, and the image's end last.
TEST_F(WayDown, StepsGoFromTheInsideOut) {
  open({"heather"});
  const Plan plan = plan_to_floor(false);
  EXPECT_LT(index_of<step::ShrinkContent>(plan), index_of<step::ShrinkPartition>(plan));
  EXPECT_LT(index_of<step::ShrinkPartition>(plan), index_of<step::ShrinkContainer>(plan));
  EXPECT_TRUE(plan.steps.back().is<step::ShrinkContainer>());
  EXPECT_TRUE(plan.lets_go());
  EXPECT_TRUE(plan.moves_content(plan.targets.front()));
}

TEST_F(WayDown, AGroupsStepsStandAroundItsMetadata) {
  open({"fieldstation"});
  const Plan plan = plan_to_floor(false);
  const std::size_t content = index_of<step::ShrinkContent>(plan);
  const std::size_t volume = index_of<step::ShrinkVolume>(plan);
  const std::size_t device = index_of<step::ShrinkDevice>(plan);
  const std::size_t commit = index_of<step::CommitGroup>(plan);
  const std::size_t partition = index_of<step::ShrinkPartition>(plan);
  EXPECT_LT(content, volume);
  EXPECT_LT(volume, device);
  EXPECT_LT(device, commit);
  EXPECT_LT(commit, plan.steps.size());
  EXPECT_LT(commit, partition);
  EXPECT_EQ(plan.groups.size(), 1U);
}

TEST_F(WayDown, TheWorkerDoesWhatThePlanSays) {
  open({"heather"});
  const Plan plan = plan_to_floor(false);
  FileSet files(host_, *guest_, plan);
  {
    Worker worker(*guest_, plan, files, 1788000000);
    for (const Step& step : plan.steps) worker.run(step, silent);
  }
  EXPECT_EQ(Bytes(files.stage(0).size()), plan.disks[0].to);
  const Guest after({{"/moor/heather", &files.stage(0)}});
  for (const Step& step : plan.steps) {
    const Layer* now = after.find(step.layer);
    if (step.is<step::ShrinkContent>()) {
      EXPECT_EQ(now->content.size, step.to);
    }
    if (step.is<step::ShrinkPartition>()) {
      EXPECT_EQ(now->size, step.to);
    }
  }
  // Nothing of it is real yet.
  EXPECT_EQ(host_.content("/moor/heather").size(), guest_->disks()[0].size().value());
}

// A step that does not come out as planned stops the change where it is.
TEST_F(WayDown, TheWorkerStopsWhereAPlanIsNotMet) {
  open({"heather"});
  Plan plan = plan_to_floor(false);
  Step& step = plan.steps[index_of<step::ShrinkContent>(plan)];
  std::get<step::ShrinkContent>(step.work).size += Bytes(1);
  FileSet files(host_, *guest_, plan);
  Worker worker(*guest_, plan, files, 1788000000);
  expect_error(Status::internal, "", [&] {
    for (const Step& each : plan.steps) worker.run(each, silent);
  });
}

}  // namespace
}  // namespace jh::test

// What every kind of layer keeps, wherever it lies: its bytes are those of the image that locate()
// names, its floor is no larger than it is, its id finds it again in a guest that was opened anew.
#include "core/guest/guest.h"
#include "core/plan/floors.h"
#include "core/plan/room.h"
#include "support/test.h"

namespace jh::test {
namespace {

class LayerContract : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    const TempFolder folder;
    unpack_sample(GetParam(), folder / "disk.img");
    disk_.emplace(load(folder / "disk.img"));
    guest_.emplace(std::vector<Guest::Image>{{"disk.img", &*disk_}});
  }

  std::optional<MemoryStore> disk_;
  std::optional<Guest> guest_;
};

TEST_P(LayerContract, BytesAreThoseOfTheImage) {
  std::mt19937_64 random(20261129);
  for (const Layer* layer : guest_->layers()) {
    if (!layer->window) continue;
    SCOPED_TRACE(guest_->name_of(*layer));
    ASSERT_EQ(layer->window->size(), layer->size.value());
    for (int i = 0; i < 20; ++i) {
      const std::uint64_t at = random() % layer->size.value();
      const Location where = layer->window->locate(at, 1);
      ASSERT_EQ(where.store, &*disk_) << at;
      const Buffer here = read_buffer(*layer->window, at, 1);
      EXPECT_EQ(here, read_buffer(*disk_, where.at, 1)) << at;
      // There and back: what is written through the one is seen through the other.
      const Buffer other{static_cast<std::uint8_t>(here[0] ^ 0x5A)};
      layer->window->write(at, other);
      EXPECT_EQ(read_buffer(*disk_, where.at, 1), other) << at;
      disk_->write(where.at, here);
    }
  }
}

TEST_P(LayerContract, InnerLayersLieInsideAndApart) {
  for (const Layer* layer : guest_->layers()) {
    SCOPED_TRACE(guest_->name_of(*layer));
    for (const Layer& inner : layer->inner) {
      EXPECT_LE((inner.offset + inner.size).value(), layer->size.value());
      EXPECT_EQ(inner.storey, layer->storey + 1);
      EXPECT_EQ(guest_->find(inner.id.outer()), layer);
    }
    for (std::size_t i = 1; i < layer->inner.size(); ++i)
      EXPECT_GE(layer->inner[i].offset, layer->inner[i - 1].offset + layer->inner[i - 1].size);
  }
}

TEST_P(LayerContract, FloorsAndRoomsFit) {
  Floors floors(*guest_);
  for (const Layer* layer : guest_->layers()) {
    SCOPED_TRACE(guest_->name_of(*layer));
    EXPECT_LE(floors.of(*layer).size, layer->size);
    EXPECT_LE((layer->size + room_of(*guest_, *layer, guest_->disks().front().size())).value(),
              2 * disk_->size());
  }
}

// A running system that knows nothing better than its disks: incomplete groups, and physical
// volumes of none, are seen beside whole ones as they are on images.
TEST_P(LayerContract, GroupsOfARunningSystemAreThoseOfItsDisks) {
  class Silent final : public Running {
    std::optional<InUse> look(const Layer&, Store&) const override { return std::nullopt; }
    std::string built_of(std::size_t) const override { return {}; }
  };
  const TempFolder folder;
  unpack_sample("two-disk-a", folder / "half.img");
  MemoryStore half = load(folder / "half.img");
  const std::vector<Guest::Image> images{{"disk.img", &*disk_}, {"half.img", &half}};
  const Silent silent;
  const Guest running(images, 0, &silent);
  const Guest at_rest(images);
  std::size_t incomplete = 0;
  for (const VolumeGroup& group : at_rest.groups()) {
    if (Guest::lies_deeper(group)) continue;
    const VolumeGroup* same = running.group_named(group.open.group.name);
    ASSERT_NE(same, nullptr) << group.open.group.name;
    EXPECT_EQ(same->open.blockers().size(), group.open.blockers().size());
    incomplete += group.open.blockers().empty() ? 0 : 1;
  }
  EXPECT_EQ(incomplete, 1U);
}

// Also when a disk is added in front of nothing but behind it: ids are no places in a list.
TEST_P(LayerContract, IdsAreForGood) {
  MemoryStore more(64 * mib);
  const Guest again({{"disk.img", &*disk_}, {"more.img", &more}});
  std::set<std::string> names;
  for (const Layer* layer : guest_->layers()) {
    const Layer* now = again.find(layer->id);
    ASSERT_NE(now, nullptr) << guest_->name_of(*layer);
    EXPECT_EQ(now->offset, layer->offset);
    EXPECT_EQ(now->size, layer->size);
    EXPECT_EQ(now->content.name, layer->content.name);
    EXPECT_TRUE(names.insert(guest_->name_of(*layer)).second) << guest_->name_of(*layer);
  }
}

INSTANTIATE_TEST_SUITE_P(Guests, LayerContract,
                         testing::Values("heather", "nestcam", "fieldstation", "mbr-boot-lvm",
                                         "mbr-extended", "gpt-ntfs-recovery", "nested",
                                         "three-groups"),
                         [](const auto& item) {
                           std::string name = item.param;
                           std::replace(name.begin(), name.end(), '-', '_');
                           return name;
                         });

}  // namespace
}  // namespace jh::test

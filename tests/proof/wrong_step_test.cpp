// A step is left out, or something of the result is changed on purpose with all sums right: each
// part of the proof is seen to refuse what the others let pass.
#include "core/base/checksum.h"
#include "core/carry/worker.h"
#include "core/change/carry_out.h"
#include "core/container/fill.h"
#include "core/fs/ext/directory_edit.h"
#include "core/fs/ext/ext.h"
#include "core/fs/ext/read.h"
#include "core/plan/grow.h"
#include "core/plan/shrink.h"
#include "core/proof/proof.h"
#include "core/staged/file_set.h"
#include "support/changes.h"
#include "support/ext_tools.h"
#include "support/guest_writes.h"
#include "support/ntfs_place.h"
#include "support/test.h"

namespace jh::test {
namespace {

struct PlannedChange {
  const char* name;
  Words samples;
  std::function<Plan(const Guest&)> plan;
};

void PrintTo(const PlannedChange& item, std::ostream* out) { *out << item.name; }

class WrongSteps : public testing::TestWithParam<PlannedChange> {
 protected:
  void SetUp() override {
    const TempFolder folder;
    for (const std::string& sample : GetParam().samples) {
      paths_.push_back("/moor/" + sample);
      unpack_sample(sample, folder / sample);
      host_.put(paths_.back(), load(folder / sample));
      files_.push_back(host_.open(paths_.back(), Access::read_only));
      images_.push_back({paths_.back(), files_.back().get()});
    }
    guest_ = std::make_unique<Guest>(images_);
    plan_ = GetParam().plan(*guest_);
  }
  // What the steps but one have made; what the proof says of it.
  std::uint32_t result_without(std::size_t left_out, std::string* said);

  FaultHost host_;
  Words paths_;
  std::vector<std::unique_ptr<Store>> files_;
  std::vector<Guest::Image> images_;
  std::unique_ptr<Guest> guest_;
  Plan plan_;
};

// Holes and zeros are the same.
std::uint32_t digest_of(FileSet& files) {
  constexpr std::uint64_t page = 1U << 16;
  std::uint32_t sum = 0;
  for (Stage* stage : files.stages())
    for (std::uint64_t at = 0; at < stage->size(); at += page) {
      const std::uint64_t length = std::min(page, stage->size() - at);
      const Range run = stage->map(at, length);
      if (run.zero && run.length == length) continue;
      const Buffer bytes = read_buffer(*stage, at, length);
      if (!all_zero(bytes)) sum = sum * 31 + crc32c(bytes) + static_cast<std::uint32_t>(at / page);
    }
  return sum;
}

std::uint32_t WrongSteps::result_without(std::size_t left_out, std::string* said) {
  std::uint32_t digest = 0;
  try {
    FileSet files(host_, *guest_, plan_);
    {
      Worker worker(*guest_, plan_, files, 1788000000);
      for (std::size_t i = 0; i < plan_.steps.size(); ++i)
        if (i != left_out) worker.run(plan_.steps[i], silent);
    }
    digest = digest_of(files);
    if (said != nullptr) prove(*guest_, plan_, files, ProofEffort::usual, silent);
  } catch (const Error& error) {
    if (said != nullptr) *said = error.what();
  }
  return digest;
}

TEST_P(WrongSteps, AStepThatIsLeftOutIsNoticed) {
  const std::size_t steps = plan_.steps.size();
  ASSERT_GT(steps, 1U);
  std::uint32_t right = 0;
  // The first round leaves out none.
  for (std::size_t round = 0; round <= steps; ++round) {
    const std::size_t left_out = round == 0 ? steps : round - 1;
    std::string said;
    const std::uint32_t digest = result_without(left_out, &said);
    if (round == 0) {
      right = digest;
      ASSERT_EQ(said, "");
    } else if (said.empty()) {
      // Another step has done the same.
      EXPECT_EQ(digest, right) << plan_.steps[left_out].name << ": "
                               << plan_.steps[left_out].action;
    }
  }
}

Plan grow_by(const Guest& guest, Bytes by, const Words& gives) {
  GrowRequest request;
  for (const Disk& disk : guest.disks()) request.images.push_back(disk.path);
  request.by = by;
  request.disk_chosen = true;
  for (const std::string& give : gives) request.gives.push_back(parse_give(give));
  return plan_growth(guest, request);
}

Plan with_moves(const Guest& guest, const Words& gives) {
  GrowRequest request;
  for (const Disk& disk : guest.disks()) request.images.push_back(disk.path);
  request.by = 64_MiB;
  request.allow_move = true;
  for (const std::string& give : gives) request.gives.push_back(parse_give(give));
  return plan_growth(guest, request);
}

Plan to_the_floor(const Guest& guest) {
  ShrinkRequest request;
  for (const Disk& disk : guest.disks()) request.images.push_back(disk.path);
  request.to_floor = request.disk_chosen = request.allow_move = true;
  return plan_shrink(guest, request);
}

INSTANTIATE_TEST_SUITE_P(
    Changes, WrongSteps,
    testing::Values(PlannedChange{"GrowMbr",
                                  {"heather"},
                                  [](const Guest& guest) { return grow_by(guest, 64_MiB, {}); }},
                    PlannedChange{"GrowGpt",
                                  {"nestcam"},
                                  [](const Guest& guest) { return grow_by(guest, 64_MiB, {}); }},
                    PlannedChange{"GrowVolumes",
                                  {"two-disk-a", "two-disk-b"},
                                  [](const Guest& guest) {
                                    return grow_by(guest, 96_MiB, {"/scratch=16MiB", "/=rest"});
                                  }},
                    PlannedChange{"MakeRoom",
                                  {"mbr-extended"},
                                  [](const Guest& guest) { return with_moves(guest, {"/"}); }},
                    PlannedChange{"TwoGroups",
                                  {"two-groups"},
                                  [](const Guest& guest) {
                                    return with_moves(guest, {"/srv/rings=44MiB", "/"});
                                  }},
                    PlannedChange{"ShrinkMbr", {"heather"}, to_the_floor},
                    PlannedChange{"ShrinkNtfs", {"mbr-ntfs"}, to_the_floor},
                    PlannedChange{"Move", {"mbr-extended"}, to_the_floor},
                    PlannedChange{"ShrinkVolumes", {"fieldstation"}, to_the_floor}),
    by_name);

// What is done to the staged result, every sum right, and the words of the part that must see it.
struct Forgery {
  const char* name;
  std::string change;  // of guest_changes()
  const char* words;
  std::function<void(FileSet&, const Guest& after)> act;
};

void PrintTo(const Forgery& item, std::ostream* out) { *out << item.name; }

ext::Filesystem& filesystem_of(const Guest& guest) {
  for (const Layer* place : guest.layers())
    if (ext_in(place->content)) return *ext_in(place->content);
  throw std::logic_error("the guest has a filesystem");
}

ext::InodeRecord file_in(ext::Filesystem& fs, std::uint64_t least) {
  ext::InodeRecord found;
  ext::walk_tree(fs, [&](const std::string&, const ext::InodeRecord& inode) {
    if (inode.type() == ext::mode_file && inode.size() >= least &&
        inode.has_flag(ext::flag_extents))
      found = inode;
  });
  if (found.ino == 0) throw std::logic_error("the guest has such a file");
  return found;
}

// Of an NTFS volume: nothing is in it.
void mark_a_free_cluster(FileSet&, const Guest& after) {
  ntfs::Filesystem fs(*after.layers().front()->window);
  ntfs::BitMap map = ntfs::read_cluster_map(fs);
  map.set(map.next(0, fs.geometry().clusters, false), true);
  ntfs::File(fs, fs.read_record(ntfs::file::bitmap)).stream(ntfs::type::data).write(0, map.bytes());
}

class Forged : public testing::TestWithParam<Forgery> {};

TEST_P(Forged, IsRefusedByThePartThatLooksThere) {
  const Forgery& forgery = GetParam();
  const auto change =
      std::find_if(guest_changes().begin(), guest_changes().end(),
                   [&](const GuestChange& each) { return each.name == forgery.change; });
  ASSERT_NE(change, guest_changes().end());
  FaultHost host;
  put(host, images_of(*change));
  try {
    carry_out_on(host, *change, [&](FileSet& files) {
      std::vector<Guest::Image> images;
      for (std::size_t i = 0; i < change->samples.size(); ++i)
        images.push_back(
            {i == 0 ? first_image : second_image, &files.stage(i), false, &files.resolver()});
      const Guest after(images);
      forgery.act(files, after);
      for (const Disk& disk : after.disks()) disk.container->disk().flush();
    });
    ADD_FAILURE() << "the proof let it pass";
  } catch (const Error& error) {
    EXPECT_THAT(error.what(), HasSubstr(forgery.words));
    EXPECT_EQ(error.outcome(), Outcome::unchanged);
  }
}

INSTANTIATE_TEST_SUITE_P(
    Changes, Forged,
    testing::Values(
        // The tree's comparison: nothing is inconsistent, a name is another.
        Forgery{"AnotherName", "Shrink", "differs",
                [](FileSet&, const Guest& after) {
                  ext::Filesystem& fs = filesystem_of(after);
                  ext::Allocation allocation(fs);
                  const ext::InodeRecord file = file_in(fs, 1);
                  ext::InodeRecord root = fs.read_inode(ext::root_ino);
                  ext::add_name(fs, allocation, root, "forged", file.ino, ext::mode_file);
                  fs.write_inode(root);
                  ext::InodeRecord linked = file;
                  linked.fields.links_count = linked.fields.links_count.value() + 1;
                  linked.store_fields();
                  fs.write_inode(linked);
                  allocation.finish();
                }},
        Forgery{"AnotherTime", "Shrink", "differ",
                [](FileSet&, const Guest& after) {
                  ext::Filesystem& fs = filesystem_of(after);
                  ext::InodeRecord file = file_in(fs, 1);
                  file.fields.mtime = file.fields.mtime.value() + 1;
                  file.store_fields();
                  fs.write_inode(file);
                }},
        // A new file, all in order: only the comparison knows that it was not there.
        Forgery{"AFileTooMany", "Shrink", "differ",
                [](FileSet&, const Guest& after) {
                  ext::Filesystem& fs = filesystem_of(after);
                  make_file(fs, "forged", 2000);
                  fs.write_super(0);
                }},
        // What the superblock keeps: the audit finds it sound.
        Forgery{"AnotherReservedUser", "GrowMbr", "differs in more than its sizes",
                [](FileSet&, const Guest& after) {
                  ext::Filesystem& fs = filesystem_of(after);
                  fs.edit_super().def_resuid = 77;
                  fs.write_super(0);
                }},
        Forgery{"AnotherLabel", "GrowMbr", "identity",
                [](FileSet&, const Guest& after) {
                  ext::Filesystem& fs = filesystem_of(after);
                  fs.edit_super().volume_name[0] ^= 1;
                  fs.write_super(0);
                }},
        // A block that is marked as used and has no owner, counted everywhere: the audit.
        Forgery{"ALostBlock", "Shrink", "",
                [](FileSet&, const Guest& after) {
                  ext::Filesystem& fs = filesystem_of(after);
                  ext::Allocation allocation(fs);
                  allocation.allocate(1, fs.geometry().blocks / 2, {});
                  allocation.finish();
                  fs.write_super(0);
                }},
        // Content of a file that did not move: what the change may touch.
        Forgery{"ContentInPlace", "GrowMbr", "in use, would change",
                [](FileSet&, const Guest& after) {
                  ext::Filesystem& fs = filesystem_of(after);
                  const ext::InodeRecord file = file_in(fs, 1);
                  const std::uint64_t block = ext::find_block(fs, file, 0);
                  Buffer content = fs.read_block(block);
                  content[0] ^= 1;
                  fs.store().write(fs.geometry().offset(block), content);
                }},
        // In front of all partitions, where a boot loader lives.
        Forgery{"TheBootArea", "GrowMbr", "in no partition",
                [](FileSet& files, const Guest&) { files.stage(0).write(100, Buffer(1, 0x55)); }},
        Forgery{
            "ATypeInTheTable", "GrowMbr", "partition 1 is not as planned",
            [](FileSet& files, const Guest&) { files.stage(0).write(446 + 4, Buffer(1, 0x07)); }},
        Forgery{"AnEndInTheTable", "GrowMbr", "partition",
                [](FileSet& files, const Guest&) {
                  auto sectors = read_as<Le32>(files.stage(0), 446 + 12);
                  sectors = sectors.value() - 2048;
                  files.stage(0).write(446 + 12, bytes_of(sectors));
                }},
        // The content of a partition that moved, which no layer can judge: its swap area's tail.
        Forgery{"ContentThatMovedWithItsPartition", "Move", "content",
                [](FileSet&, const Guest& after) {
                  for (const Layer* place : after.layers()) {
                    if (!ext_in(place->content)) continue;
                    ext::Filesystem& fs = *ext_in(place->content);
                    ext::InodeRecord file;
                    ext::walk_tree(fs, [&](const std::string&, const ext::InodeRecord& inode) {
                      if (inode.type() == ext::mode_file && inode.size() > 4096) file = inode;
                    });
                    if (file.ino == 0) continue;
                    const std::uint64_t block = ext::find_block(fs, file, 0);
                    Buffer content = fs.read_block(block);
                    content[0] ^= 1;
                    fs.store().write(fs.geometry().offset(block), content);
                  }
                }},
        // NTFS: a time in a record, a bit of the old part, one of a free cluster, the mark to be
        // checked.
        Forgery{"AnotherTimeInARecord", "ShrinkNtfs", "differ",
                [](FileSet&, const Guest& after) {
                  Store& place = *after.layers().front()->window;
                  ntfs::Filesystem fs(place);
                  edit_ntfs_value(place, *ntfs::find_file(fs, "sparse.bin"),
                                  ntfs::type::standard_information,
                                  [](Buffer& value) { value[3] ^= 1; });
                }},
        Forgery{"ANameInARecord", "ShrinkNtfs", "",
                [](FileSet&, const Guest& after) {
                  Store& place = *after.layers().front()->window;
                  ntfs::Filesystem fs(place);
                  edit_ntfs_value(place, *ntfs::find_file(fs, "sparse.bin"), ntfs::type::file_name,
                                  [](Buffer& value) { value[sizeof(ntfs::FileName)] ^= 1; });
                }},
        Forgery{"ALostCluster", "ShrinkNtfs", "nothing holds them", mark_a_free_cluster},
        Forgery{"ABitOfTheOldPart", "GrowNtfs", "", mark_a_free_cluster},
        Forgery{"TheMarkToBeChecked", "GrowNtfs", "",
                [](FileSet&, const Guest& after) {
                  edit_ntfs_value(*after.layers().front()->window, ntfs::file::volume,
                                  ntfs::type::volume_information,
                                  [](Buffer& value) { value[10] |= 1; });
                }},
        Forgery{"TheListOfBadClusters", "GrowNtfs", "",
                [](FileSet&, const Guest& after) {
                  ntfs::Filesystem fs(*after.layers().front()->window);
                  ntfs::Record record = fs.read_record(ntfs::file::bad_clusters);
                  auto attributes = record.attributes();
                  for (ntfs::Attribute& attribute : attributes)
                    if (attribute.name() == u"$Bad")
                      attribute.set_sizes(attribute.allocated_size() - 4096,
                                          attribute.data_size() - 4096, 0);
                  record.set_attributes(attributes);
                  fs.write_record(record);
                }},
        Forgery{"AContainersCount", "GrowQcow2", "",
                [](FileSet& files, const Guest&) {
                  // A reference count of one too many: the first cluster's.
                  const auto table = read_as<Be64>(files.stage(0), 48).value();
                  const auto block = read_as<Be64>(files.stage(0), table).value();
                  auto count = read_as<Be16>(files.stage(0), block);
                  count = static_cast<std::uint16_t>(count.value() + 1);
                  files.stage(0).write(block, bytes_of(count));
                }}),
    by_name);

}  // namespace
}  // namespace jh::test

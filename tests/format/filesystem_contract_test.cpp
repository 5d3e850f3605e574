// What every kind of filesystem promises behind the door, asked of each in the same words: a new
// kind adds a line to subjects() and is held to all of it.
#include "core/base/checksum.h"
#include "core/change/carry_out.h"
#include "core/guest/content.h"
#include "core/plan/grow.h"
#include "core/plan/shrink.h"
#include "core/proof/tree_compare.h"
#include "support/btrfs_guest.h"
#include "support/ntfs_accounting.h"
#include "support/power_cuts.h"
#include "support/same_guest.h"
#include "support/test.h"
#include "support/xfs_guest.h"

namespace jh::test {
namespace {

constexpr const char* place_path = "/moor/place.img";

struct Subject {
  const char* name;
  const char* kind;
  std::uint64_t size;
  std::function<void(const std::string& image, std::uint64_t size)> make;
  std::function<std::string(const std::string& image)> checker;  // from outside; empty: content
  bool utf16 = false;                                            // names are kept as UTF-16
};

void PrintTo(const Subject& subject, std::ostream* out) { *out << subject.name; }

std::string check_swap(const std::string& image) {
  const ProgramResult told = run({"blkid", "-p", "-o", "value", "-s", "TYPE", image});
  return told.out == "swap\n" ? "" : "the system does not take it for swap: " + told.out;
}

std::function<void(const std::string&, std::uint64_t)> maker(Words options) {
  options.insert(options.end(), {"-L", "moor", "-U", "0d5e7c1a-3b52-4a34-9f0c-6a8d2a1e4711"});
  return
      [options](const std::string& image, std::uint64_t size) { make_ext(image, size, options); };
}

// Made and filled by another driver; judged by a second reader of our own.
Subject ntfs(const char* name, const char* sample, std::uint64_t size) {
  return {name,
          "NTFS",
          size,
          [sample](const std::string& image, std::uint64_t) { unpack_sample(sample, image); },
          [](const std::string& image) { return account_ntfs(image); },
          true};
}

std::function<void(const std::string&, std::uint64_t)> xfs(Words options) {
  options.insert(options.end(), {"-L", "moor", "-m", "uuid=0d5e7c1a-3b52-4a34-9f0c-6a8d2a1e4711"});
  return
      [options](const std::string& image, std::uint64_t size) { make_xfs(image, size, options); };
}

std::function<void(const std::string&, std::uint64_t)> btrfs(Words options) {
  // Its maker takes no identity that another one has, which a test beside this one may use.
  options.insert(options.end(), {"-L", "moor"});
  return
      [options](const std::string& image, std::uint64_t size) { make_btrfs(image, size, options); };
}

const std::vector<Subject>& subjects() {
  const auto check = [](const std::string& image) { return check_ext(image); };
  static const std::vector<Subject> all{
      {"Ext2", "ext2", 24 * mib, maker({"-t", "ext2"}), check},
      {"Ext3", "ext3", 24 * mib, maker({"-t", "ext3"}), check},
      {"Ext4", "ext4", 24 * mib, maker({"-t", "ext4", "-b", "1024"}), check},
      {"Ext4OfLargeBlocks", "ext4", 64 * mib, maker({"-t", "ext4", "-b", "4096"}), check},
      {"Swap", "swap", 8 * mib,
       [](const std::string& image, std::uint64_t size) {
         make_sparse_file(image, size);
         run({"mkswap", "-L", "moor", "-U", "0d5e7c1a-3b52-4a34-9f0c-6a8d2a1e4711", image});
       },
       check_swap},
      {"Xfs", "XFS", 304 * mib, xfs({}), check_xfs},
      {"XfsWithAReverseMap", "XFS", 320 * mib, xfs({"-m", "rmapbt=1", "-b", "size=1024"}),
       check_xfs},
      // With folders, attributes and shared content in all groups.
      {"XfsLivedIn", "XFS", 400 * mib,
       [](const std::string& image, std::uint64_t size) {
         xfs({"-m", "rmapbt=1", "-d", "agcount=5"})(image, size);
         std::mt19937_64 random{7};
         live_in_xfs(image, random);
       },
       check_xfs},
      {"Btrfs", "btrfs", 200 * mib, btrfs({"-m", "single"}), check_btrfs},
      {"BtrfsOfMixedChunks", "btrfs", 80 * mib,
       btrfs({"-M", "--csum", "xxhash", "-m", "single", "-d", "single"}), check_btrfs},
      // With room in several chunks: some are emptied, others move.
      {"BtrfsLivedIn", "btrfs", 300 * mib,
       [](const std::string& image, std::uint64_t size) {
         std::mt19937 random{7};
         const BtrfsMade made{"LivedIn", {"-m", "single", "-L", "moor"}, ""};
         make_lived_in_btrfs(image, size, made, random, 120);
       },
       check_btrfs},
      ntfs("Ntfs", "ntfs-desk", 24 * mib),
      ntfs("NtfsPacked", "ntfs-packed", 24 * mib),
      ntfs("NtfsOfSmallClusters", "ntfs-512", 14 * mib),
      ntfs("NtfsOfLargeClusters", "ntfs-64k", 96 * mib),
      ntfs("NtfsOfLargeSectors", "ntfs-4kn", 32 * mib)};
  return all;
}

class FilesystemContract : public testing::TestWithParam<Subject> {
 protected:
  void SetUp() override {
    if (std::string(GetParam().name).ends_with("LivedIn") && !can_mount())
      GTEST_SKIP() << "no mounts here";
    GetParam().make(image_, GetParam().size);
    disk_ = std::make_unique<MemoryStore>(load(image_));
  }
  // Of a place in memory, for a change.
  static std::unique_ptr<FilesystemOnDisk> open(Store& place) {
    const Content content = recognise_content(place);
    return content.filesystem_kind()->open_to_change(place);
  }
  std::string checker_of(Store& place) const {
    const std::string copy = folder_ / "copy";
    save(place, copy);
    return GetParam().checker(copy);
  }
  void resize(MemoryStore& place, Bytes size) const {
    if (Bytes(place.size()) < size) place.resize(size.value());
    const ResizePlan plan = open(place)->plan_resize(size);
    if (!plan.changes()) return;
    if (!plan.preparation.empty()) open(place)->prepare(plan.to, silent);
    open(place)->resize(plan.to, silent);
    if (plan.to < Bytes(place.size())) place.resize(plan.to.value());
    EXPECT_EQ(open(place)->size(), plan.to);
  }
  void expect_sound(MemoryStore& place, const Sums& tree) const {
    const auto fs = open(place);
    EXPECT_EQ(audited(*fs), "");
    EXPECT_EQ(checker_of(place), "");
    EXPECT_TRUE(tree_sums(*fs) == tree);
  }

  TempFolder folder_;
  const std::string image_ = folder_ / "place.img";
  std::unique_ptr<MemoryStore> disk_;
};

TEST_P(FilesystemContract, RecognisesItselfAndNoneOfTheOthers) {
  const Content content = recognise_content(*disk_);
  ASSERT_EQ(content.kind, ContentKind::filesystem);
  EXPECT_EQ(content.name, GetParam().kind);
  EXPECT_TRUE(content.filesystem_kind()->resizable);
  for (const FilesystemKind* kind : filesystem_kinds())
    EXPECT_EQ(kind->recognise(*disk_), kind == content.filesystem_kind()) << kind->name;
}

TEST_P(FilesystemContract, SaysWhatTheSystemSays) {
  const Content content = recognise_content(*disk_);
  EXPECT_EQ(content.label,
            run({"blkid", "-p", "-o", "value", "-s", "LABEL", image_}).out.substr(0, 4));
  EXPECT_EQ(content.uuid + "\n", run({"blkid", "-p", "-o", "value", "-s", "UUID", image_}).out);
  EXPECT_EQ(content.size, Bytes(GetParam().size));
  EXPECT_EQ(content.filesystem()->size(), Bytes(GetParam().size));
  EXPECT_TRUE(content.blockers.empty());
  EXPECT_EQ(content.state, "clean");
  EXPECT_EQ(content.size->value() % content.filesystem()->unit().value(), 0U);
}

TEST_P(FilesystemContract, GrowsAndShrinksToAnySize) {
  const auto tree = tree_sums(*open(*disk_));
  const Bytes floor = open(*disk_)->floor().size;
  const Bytes unit = open(*disk_)->unit();
  EXPECT_LE(floor, Bytes(GetParam().size));
  EXPECT_LT(floor, Bytes(GetParam().size));
  const std::uint32_t seed = seed_of_run();
  std::mt19937 random(seed);
  SCOPED_TRACE(fmt::format("seed {}", seed));
  std::vector<Bytes> sizes{floor, floor + unit};
  for (int i = 0; i < 6; ++i)
    sizes.push_back(floor + Bytes((std::uint64_t{random()} << 8) % (GetParam().size * 3)));
  for (const Bytes size : sizes) {
    SCOPED_TRACE(fmt::format("{} bytes", size.value()));
    MemoryStore place(*disk_, "place");
    resize(place, size);
    expect_sound(place, tree);
    // And back again.
    resize(place, Bytes(GetParam().size));
    expect_sound(place, tree);
  }
  const auto fs = open(*disk_);
  if (floor > unit) {
    EXPECT_THROW(fs->plan_resize(Bytes(unit.value())), Error);
  }
}

TEST_P(FilesystemContract, DoesNotMissWhatItSaysIsFree) {
  const auto tree = tree_sums(*open(*disk_));
  MemoryStore place(*disk_, "place");
  std::mt19937 random(5);
  std::uint64_t last = 0;
  std::uint64_t free = 0;
  open(*disk_)->for_each_free([&](std::uint64_t start, std::uint64_t end) {
    EXPECT_GE(start, last);
    EXPECT_GT(end, start);
    EXPECT_LE(end, place.size());
    last = end;
    free += end - start;
    Buffer garbage(end - start);
    for (std::size_t i = 0; i < garbage.size(); i += 64)
      garbage[i] = static_cast<std::uint8_t>(random());
    place.write(start, garbage);
  });
  EXPECT_GT(free, 0U);
  expect_sound(place, tree);
  if (const auto used = recognise_content(*disk_).used) {
    EXPECT_EQ(free, GetParam().size - used->value());
  }
}

// A growth on a stage, whose result is tampered with before the proof looks.
void grow_on(FaultHost& host, const BeforeProof& tamper) {
  const auto file = host.open(place_path, Access::read_only);
  const Guest guest({{place_path, file.get()}});
  GrowRequest request;
  request.images = {place_path};
  request.disk_chosen = true;
  request.by = Bytes(guest.disks()[0].size().value() / 2);
  if (!guest.disks()[0].layers[0].content.is_usual_target()) request.gives = {parse_give("disk")};
  carry_out(host, guest, plan_growth(guest, request), request, silent, tamper);
}

TEST_P(FilesystemContract, LetsTheProofSeeWhatAGrowthMustNotTouch) {
  std::mt19937 random(6);
  const auto fs = open(*disk_);
  for (int i = 0; i < 30; ++i) {
    std::uint64_t at = random() % (disk_->size() / 2);
    const auto kept = fs->first_kept(at, disk_->size() - at);
    if (!kept) continue;
    FaultHost host;
    host.put(place_path, *disk_);
    const auto flip = [&](FileSet& files) {
      Buffer byte = read_buffer(files.stage(0), *kept, 1);
      byte[0] ^= 0x40;
      files.stage(0).write(*kept, byte);
    };
    expect_error(Status::damaged, "", [&] { grow_on(host, flip); });
    EXPECT_TRUE(host.content(place_path).same_content(*disk_));
  }
}

// The trees of a place as it is, and as it is with one byte changed.
class ChangedByte {
 public:
  ChangedByte(MemoryStore& disk, FilesystemOnDisk& before) : before_(before), tree_(before.tree()) {
    host_.put(place_path, disk);
    file_ = host_.open(place_path, Access::read_only);
    guest_ = std::make_unique<Guest>(std::vector<Guest::Image>{{place_path, file_.get()}});
  }
  /// Null: it holds no files.
  FileTree* tree() { return tree_.get(); }
  /// What the comparison says when the lowest bit of this byte is another; empty: nothing.
  std::string said_of(std::uint64_t at) {
    FileSet files(host_, guest_->disks()[0]);
    Buffer byte = read_buffer(files.stage(0), at, 1);
    byte[0] ^= 1;
    files.stage(0).write(at, byte);
    Ranges changed;
    add_range(changed, at, at + 1);
    try {
      const Content content = recognise_content(files.stage(0));
      const auto now = content.filesystem_kind()->open_to_change(files.stage(0));
      const auto changed_tree = now->tree();
      ContentCheck contents(files);
      compare_trees({*tree_, before_.store()}, {*changed_tree, now->store()}, changed, contents,
                    place_path, silent);
    } catch (const Error& error) {
      return error.what();
    }
    return {};
  }

 private:
  FilesystemOnDisk& before_;
  std::unique_ptr<FileTree> tree_;
  FaultHost host_;
  std::unique_ptr<Store> file_;
  std::unique_ptr<Guest> guest_;
};

// One byte of the content of one file.
TEST_P(FilesystemContract, LetsTheComparisonNameAFileThatDiffers) {
  const auto before = open(*disk_);
  ChangedByte change(*disk_, *before);
  FileTree* tree = change.tree();
  if (tree == nullptr) GTEST_SKIP() << "it holds no files";
  int named = 0;
  const auto passed_over = tree->passed_over();
  for (const FileTree::Entry& entry : tree->entries(tree->roots().front().node)) {
    if (std::find(passed_over.begin(), passed_over.end(), entry.node) != passed_over.end())
      continue;
    const FileTree::File found = tree->look(entry.node);
    if (found.folder || found.content.empty()) continue;
    const FileTree::Extent& extent = found.content.front();
    if (extent.kind != FileTree::Extent::Kind::data) continue;
    const std::string said = change.said_of(extent.at);
    EXPECT_NE(said, "") << entry.name << " differs, and nobody saw it";
    if (!said.empty()) {
      // It may have several names, and others may share its content.
      const auto names = tree->entries(tree->roots().front().node);
      EXPECT_TRUE(std::any_of(names.begin(), names.end(),
                              [&](const FileTree::Entry& other) {
                                const FileTree::File same = tree->look(other.node);
                                return !same.content.empty() &&
                                       same.content.front().at == extent.at &&
                                       said.find("/" + other.name + ": its content") !=
                                           std::string::npos;
                              }))
          << entry.name << ": " << said;
      ++named;
    }
  }
  EXPECT_GT(named, 0);
}

// A byte of a name, in the folder itself: the comparison does not pass it over.
TEST_P(FilesystemContract, LetsTheComparisonSeeAFolderThatDiffers) {
  const auto before = open(*disk_);
  ChangedByte change(*disk_, *before);
  FileTree* tree = change.tree();
  if (tree == nullptr) GTEST_SKIP() << "it holds no files";
  const Buffer all = read_buffer(*disk_, 0, disk_->size());
  int folders = 0;
  for (const FileTree::Entry& entry : tree->entries(tree->roots().front().node)) {
    if (entry.name.starts_with('.') || !tree->look(entry.node).folder) continue;
    const auto children = tree->entries(entry.node);
    const auto child = std::find_if(children.begin(), children.end(), [](const auto& each) {
      return each.name.size() > 4 && !each.name.starts_with('.');
    });
    if (child == children.end()) continue;
    ++folders;
    // Wherever these letters are: in the folder at least once.
    std::string letters;
    for (const char letter : child->name) {
      letters += letter;
      if (GetParam().utf16) letters += '\0';
    }
    int seen = 0;
    for (auto at = all.begin();; ++at) {
      at = std::search(at, all.end(), letters.begin(), letters.end());
      if (at == all.end()) break;
      if (!change.said_of(static_cast<std::uint64_t>(at - all.begin())).empty()) ++seen;
    }
    EXPECT_GT(seen, 0) << entry.name << "/" << child->name;
  }
  EXPECT_GT(folders, 0);
}

// The power goes at each operation, with what was not flushed lost or torn: the files are there,
// and the size is the old or the new one.
class FilesystemContractCuts : public FilesystemContract {
 protected:
  void expect_old_or_new(const std::function<void(FaultHost&)>& change) {
    const auto tree = tree_sums(*open(*disk_));
    PowerCuts cuts([&](FaultHost& host) { host.put(place_path, *disk_); }, change);
    MemoryStore result(cuts.whole().content(place_path), "result");
    const auto new_size = recognise_content(result).size;
    // Of many, a random part of a run.
    const std::uint64_t operations = cuts.operations();
    const bool all = takes_all() || operations <= 60;
    std::mt19937 choice(seed_of_run());
    std::vector<std::uint64_t> points;
    for (std::uint64_t n = 1; n <= operations; ++n)
      if (all || choice() % operations < 60) points.push_back(n);
    cuts.everywhere(
        {{Unflushed::each}, false, /*may_end=*/true, points}, [&](FaultHost& host, std::uint64_t) {
          recover(host, place_path);
          const auto file = host.open(place_path, Access::read_only);
          const Content content = recognise_content(*file);
          ASSERT_NE(content.filesystem(), nullptr);
          EXPECT_TRUE(tree_sums(*content.on_disk()) == tree);
          EXPECT_TRUE(file->size() == disk_->size() || file->size() == result.size());
          EXPECT_TRUE(content.size == Bytes(GetParam().size) || content.size == new_size);
        });
  }
};

TEST_P(FilesystemContractCuts, LeaveTheOldOrTheNewWhenItGrows) {
  expect_old_or_new([](FaultHost& host) { grow_on(host, {}); });
}

TEST_P(FilesystemContractCuts, LeaveTheOldOrTheNewWhenItShrinks) {
  const Bytes floor = open(*disk_)->floor().size;
  const Bytes size((floor.value() + (GetParam().size - floor.value()) / 8 + 511) / 512 * 512);
  expect_old_or_new([&](FaultHost& host) {
    const auto file = host.open(place_path, Access::read_only);
    const Guest guest({{place_path, file.get()}});
    ShrinkRequest request;
    request.images = {place_path};
    request.disk_chosen = true;
    request.to = size;
    carry_out(host, guest, plan_shrink(guest, request), request, silent);
  });
}

TEST_P(FilesystemContract, NamesDamageAndNeverFallsOverIt) {
  std::mt19937 random(8);
  for (int i = 0; i < 300; ++i) {
    MemoryStore place(*disk_, "place");
    for (int k = 0; k < 3; ++k) {
      const std::uint64_t at = random() % std::min<std::uint64_t>(place.size(), 400'000);
      const auto value = static_cast<std::uint8_t>(random());
      place.write(at, ConstByteSpan(&value, 1));
    }
    look_all_over(place, Files::left_out);
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, FilesystemContract, testing::ValuesIn(subjects()), by_name);
INSTANTIATE_TEST_SUITE_P(Kinds, FilesystemContractCuts, testing::ValuesIn(subjects()), by_name);

}  // namespace
}  // namespace jh::test

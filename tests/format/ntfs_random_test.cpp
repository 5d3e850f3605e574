// Random ways up and down over volumes of every sort, judged by a second reader: what it accounts
// for, and the content of every file and stream.
#include "core/fs/ntfs/ntfs.h"
#include "core/fs/ntfs/shrink.h"
#include "core/store/file_store.h"
#include "support/ntfs_accounting.h"
#include "support/ntfs_place.h"
#include "support/ntfs_writer.h"
#include "support/test.h"

namespace jh::test {
namespace {

int sequences() {
  const char* asked = std::getenv("JUNEHEATH_SEQUENCES");
  return asked != nullptr ? std::stoi(asked) : rounds_of(300);
}

class Sequence {
 public:
  Sequence(MemoryStore& place, std::mt19937& random) : place_(place), random_(random) {}

  void step() {
    ntfs::NtfsFilesystem fs(place_);
    const Bytes floor = fs.floor().size;
    const std::uint64_t span = fs.size().value() - floor.value();
    std::uint64_t wanted = 0;
    switch (random_() % 4) {
      case 0:
        wanted = floor.value();
        break;
      case 1:
        wanted = floor.value() + (std::uint64_t{random_()} << 9) % (span + 1);
        break;
      case 2:
        wanted = floor.value() + (std::uint64_t{random_()} % 64) * 512;
        break;
      default:
        wanted = std::min<std::uint64_t>(fs.size().value() * (1 + random_() % 3), 160U << 20) +
                 random_() % 5000;
    }
    steps += fmt::format(" {}", wanted);
    if (wanted > place_.size()) place_.resize(wanted);
    const ResizePlan plan = fs.plan_resize(Bytes(wanted));
    if (!plan.changes()) return;
    if (plan.to < plan.from)
      records_taken +=
          ntfs::plan_shrink(fs.inner(), plan.to.value() / fs.inner().geometry().sector_size - 1)
              .records_to_take;
    fs.resize(plan.to, silent);
    if (plan.to.value() < place_.size()) place_.resize(plan.to.value());
  }

  std::string steps;
  std::uint64_t records_taken = 0;

 private:
  MemoryStore& place_;
  std::mt19937& random_;
};

TEST(NtfsSequences, EndSoundAndWithEveryFile) {
  const TempFolder folder;
  const std::uint32_t seed = seed_of_run();
  std::mt19937 random(seed);
  SCOPED_TRACE(fmt::format("seed {}", seed));
  struct Sample {
    const char* name;
    MemoryStore disk;
    std::map<std::string, std::uint64_t> contents;
  };
  std::vector<Sample> samples;
  for (const char* name :
       {"ntfs-desk", "ntfs-packed", "ntfs-512", "ntfs-64k", "ntfs-4kn", "ntfs-crowded"}) {
    const std::string image = unpack_sample(name, folder / name);
    samples.push_back({name, load(image), ntfs_contents(image)});
  }
  std::uint64_t records_taken = 0;
  for (int i = 0; i < sequences(); ++i) {
    const Sample& sample = samples[i % 20 == 19 ? 5 : random() % 5];
    MemoryStore place(sample.disk, "place");
    Sequence sequence(place, random);
    try {
      for (std::uint32_t steps = 2 + random() % 4; steps != 0; --steps) sequence.step();
    } catch (const Error& error) {
      FAIL() << sample.name << sequence.steps << ": " << error.what();
    }
    records_taken += sequence.records_taken;
    ASSERT_EQ(audited(ntfs::NtfsFilesystem(place)), "") << sample.name << sequence.steps;
    const std::string image = folder / "result";
    save(place, image);
    ASSERT_EQ(account_ntfs(image), "") << sample.name << sequence.steps;
    ASSERT_TRUE(ntfs_contents(image) == sample.contents) << sample.name << sequence.steps;
  }
  RecordProperty("records_taken", std::to_string(records_taken));
  std::printf("%d sequences, seed %u, %llu further file records taken\n", sequences(), seed,
              static_cast<unsigned long long>(records_taken));
}

// The copy of the table's beginning moves as a whole, wherever in it the new end falls.
TEST(NtfsSequences, EndInTheMiddleOfTheMirror) {
  const TempFolder folder;
  for (const char* name : {"ntfs-desk", "ntfs-512", "ntfs-4kn"}) {
    const MemoryStore disk = ntfs_sample(name);
    MemoryStore looked_at(disk, "disk");
    ntfs::Filesystem fs(looked_at);
    const ntfs::Geometry& g = fs.geometry();
    const std::uint64_t mirror = g.offset(g.mirror_cluster);
    const std::uint64_t length = ceil_div(fs.mirrored() * g.record_size, g.cluster_size) + 1;
    if (mirror < ntfs::NtfsFilesystem(looked_at).floor().size.value()) continue;
    for (std::uint64_t n = 0; n <= length; ++n) {
      SCOPED_TRACE(fmt::format("{}, {} clusters into it", name, n));
      MemoryStore place(disk, "place");
      ntfs::NtfsFilesystem changed(place);
      const ResizePlan plan =
          changed.plan_resize(Bytes(mirror + n * g.cluster_size + g.sector_size));
      changed.resize(plan.to, silent);
      place.resize(plan.to.value());
      EXPECT_EQ(audited(ntfs::NtfsFilesystem(place)), "");
      const std::string image = folder / "result";
      save(place, image);
      EXPECT_EQ(account_ntfs(image), "");
    }
  }
}

// Folders of thousands of names, and files in so many pieces that their lists need clusters.
TEST(NtfsSequences, GoOnWithManyNamesAndPieces) {
  const TempFolder folder;
  unpack_sample("ntfs-desk", folder / "image");
  MemoryStore place = load(folder / "image");
  const auto resize = [&](std::uint64_t size) {
    if (size > place.size()) place.resize(size);
    ntfs::NtfsFilesystem fs(place);
    const ResizePlan plan = fs.plan_resize(Bytes(size));
    fs.resize(plan.to, silent);
    if (plan.to.value() < place.size()) place.resize(plan.to.value());
  };
  const auto look = [&] {
    EXPECT_EQ(audited(ntfs::NtfsFilesystem(place)), "");
    save(place, folder / "image");
    EXPECT_EQ(account_ntfs(folder / "image"), "");
  };
  resize(400U << 20);
  add_ntfs_files(place, {3, 4000, 0, 1, 0, "names"});
  // One free cluster behind each piece; two large files at the end will have to fill them.
  add_ntfs_files(place, {1, 200, 400'000, 90, 5, "pieces"});
  add_ntfs_files(place, {1, 2, 38U << 20, 1, 80, "films"});
  look();
  const auto contents = ntfs_contents(folder / "image");
  ASSERT_GT(contents.size(), 12'000U);
  ntfs::NtfsFilesystem fs(place);
  resize(fs.floor().size.value());
  look();
  EXPECT_TRUE(ntfs_contents(folder / "image") == contents);
  ntfs::Filesystem shrunk(place);
  int long_lists = 0;
  shrunk.for_each_raw_record([&](std::uint64_t number, ByteSpan raw) {
    const auto header = parse_as<ntfs::RecordHeader>(raw, 0);
    if (header.flags.value() == 0 || header.base.value() != 0) return;
    const ntfs::File file(shrunk, shrunk.read_record(number));
    if (file.list() && !file.list()->resident()) ++long_lists;
  });
  EXPECT_GT(long_lists, 0) << "lists with clusters of their own are what this is about";
  resize(600U << 20);
  look();
  EXPECT_TRUE(ntfs_contents(folder / "image") == contents);
}

// The largest clusters there are.
TEST(NtfsSequences, GoOnWithLargeClusters) {
  const TempFolder folder;
  unpack_sample("ntfs-2m", folder / "image");
  const auto contents = ntfs_contents(folder / "image");
  MemoryStore place = load(folder / "image");
  for (const std::uint64_t size : {std::uint64_t{0}, std::uint64_t{900} << 20, std::uint64_t{0}}) {
    ntfs::NtfsFilesystem fs(place);
    const Bytes wanted = size == 0 ? fs.floor().size : Bytes(size);
    if (wanted.value() > place.size()) place.resize(wanted.value());
    fs.resize(fs.plan_resize(wanted).to, silent);
    if (wanted.value() < place.size()) place.resize(wanted.value());
    save(place, folder / "image");
    EXPECT_EQ(account_ntfs(folder / "image"), "");
    EXPECT_TRUE(ntfs_contents(folder / "image") == contents);
  }
}

// Clusters that the guest knows to be bad are no content: they stay, or go with the end.
TEST(NtfsSequences, LeaveBadClustersWhereTheyAre) {
  const TempFolder folder;
  unpack_sample("ntfs-desk", folder / "image");
  MemoryStore place = load(folder / "image");
  std::uint64_t bad = 0;
  {
    ntfs::NtfsFilesystem fs(place);
    ntfs::Filesystem& inner = fs.inner();
    ntfs::BitMap map = ntfs::read_cluster_map(inner);
    const std::uint64_t last = inner.geometry().clusters - 10;
    bad = map.next(300, last, false);
    ntfs::Record record = inner.read_record(ntfs::file::bad_clusters);
    auto attributes = record.attributes();
    for (ntfs::Attribute& attribute : attributes)
      if (attribute.name() == u"$Bad")
        attribute.set_runs({{0, ntfs::ClusterRun::hole, bad},
                            {bad, bad, 1},
                            {bad + 1, ntfs::ClusterRun::hole, last - bad - 1},
                            {last, last, 2},
                            {last + 2, ntfs::ClusterRun::hole, 8}});
    record.set_attributes(attributes);
    inner.write_record(record);
    map.set(bad, true);
    map.set_range(last, last + 2, true);
    ntfs::File(inner, inner.read_record(ntfs::file::bitmap))
        .stream(ntfs::type::data)
        .write(0, map.bytes());
  }
  const auto bad_runs = [&] {
    ntfs::NtfsFilesystem fs(place);
    EXPECT_EQ(audited(fs), "");
    ntfs::ClusterRuns found;
    const ntfs::Stream stream =
        ntfs::File(fs.inner(), fs.inner().read_record(ntfs::file::bad_clusters))
            .stream(ntfs::type::data, u"$Bad");
    for (const ntfs::ClusterRun& run : stream.runs())
      if (!run.is_hole()) found.push_back(run);
    return found;
  };
  ASSERT_EQ(bad_runs().size(), 2U);
  for (const std::uint64_t size : {12U << 20, 60U << 20}) {
    if (size > place.size()) place.resize(size);
    ntfs::NtfsFilesystem fs(place);
    fs.resize(fs.plan_resize(Bytes(size)).to, silent);
    if (size < place.size()) place.resize(size);
    const ntfs::ClusterRuns left = bad_runs();
    ASSERT_EQ(left.size(), 1U);
    EXPECT_EQ(left.front(), (ntfs::ClusterRun{bad, bad, 1}));
    save(place, folder / "image");
    EXPECT_EQ(account_ntfs(folder / "image"), "");
  }
}

}  // namespace
}  // namespace jh::test

// Damage to NTFS: every field in turn, and noise. Nothing is written by looking, nothing falls over
// it, and what is carried out all the same ends in an orderly way.
#include "core/guest/content.h"
#include "support/damage.h"
#include "support/ntfs_place.h"
#include "support/test.h"

namespace jh::test {
namespace {

// Throws what may not come out; true: something was refused.
template <class Work>
bool refuses(Work&& work) {
  try {
    work();
    return false;
  } catch (const Error& error) {
    EXPECT_NE(error.status(), Status::internal) << error.what();
    return true;
  }
}

bool look_everywhere(MemoryStore& place) {
  const MemoryStore was(place, "was");
  const Content content = recognise_content(place);
  bool refused = !content.blockers.empty();
  if (content.filesystem()) {
    FilesystemOnDisk& fs = *content.on_disk();
    Findings findings;
    refused = refuses([&] { fs.audit(AuditScope::full, {}, findings, silent); }) || refused;
    refused = refused || !findings.clean();
    refused = refuses([&] { fs.floor(); }) || refused;
    refused = refuses([&] { fs.for_each_free([](std::uint64_t, std::uint64_t) {}); }) || refused;
    refused = refuses([&] { fs.first_kept(0, place.size()); }) || refused;
    refused = refuses([&] { fs.read_text("Users/warden/Documents/a.txt", 100); }) || refused;
    refused = refuses([&] {
                const auto tree = fs.tree();
                for (FileTree::Node node = 0; node < std::min<std::uint64_t>(tree->node_end(), 40);
                     ++node)
                  refuses([&] {
                    if (tree->look(node).folder) tree->entries(node);
                  });
              }) ||
              refused;
  }
  EXPECT_TRUE(place.same_content(was)) << "looking has written";
  // Carried out all the same, as if nobody had looked.
  for (const bool up : {true, false}) {
    MemoryStore changed(place, "changed");
    if (up) changed.resize(place.size() * 2);
    refuses([&] {
      ntfs::NtfsFilesystem fs(changed);
      const ResizePlan plan = fs.plan_resize(up ? Bytes(changed.size()) : Bytes(place.size() / 2));
      fs.resize(plan.to, silent);
    });
  }
  return refused;
}

class NtfsDamage : public testing::TestWithParam<const char*> {};

TEST_P(NtfsDamage, EveryFieldInTurn) {
  const MemoryStore image = ntfs_sample(GetParam());
  std::vector<SpoiledPlace> targets;
  {
    MemoryStore place(image, "place");
    ntfs::Filesystem fs(place);
    const ntfs::Geometry& g = fs.geometry();
    targets.push_back({"boot sector", 0, 84});
    std::vector<std::uint64_t> records{0, 1, 2, 3, 4, 5, 6, 8, 9, 10, 11};
    for (const char* path : {"many", "sparse.bin", "left", "hard-link.txt", "fragmented"})
      if (const auto number = ntfs::find_file(fs, path)) records.push_back(*number);
    for (const std::uint64_t number : records) {
      const ntfs::File file(fs, fs.read_record(number));
      targets.push_back({fmt::format("record {}", number), fs.record_offset(number),
                         file.base().header().bytes_used.value()});
      if (file.list() && !file.list()->resident())
        targets.push_back({fmt::format("list of {}", number),
                           g.offset(file.list()->runs(g.clusters).front().lcn), 256});
      for (const auto& [extension, record] : file.extensions())
        targets.push_back({fmt::format("further record {}", extension), fs.record_offset(extension),
                           record.header().bytes_used.value()});
      if (const auto index = file.find(ntfs::type::index_allocation, u"$I30"))
        targets.push_back({fmt::format("index of {}", number),
                           g.offset(file.stream(*index).runs().front().lcn), 400});
      if (number == ntfs::file::bitmap)
        targets.push_back(
            {"bitmap", g.offset(file.stream(ntfs::type::data).runs().front().lcn), 64});
    }
  }
  const std::uint32_t seed = seed_of_run();
  std::mt19937 random(seed);
  SCOPED_TRACE(fmt::format("seed {}", seed));
  constexpr std::uint32_t one_of = is_sanitized ? 200 : 120;
  const auto takes = [&](std::uint64_t, int) { return takes_all() || random() % one_of == 0; };
  spoil_each_byte(image, targets, takes, look_everywhere);
}

TEST_P(NtfsDamage, RandomBytes) {
  const MemoryStore image = ntfs_sample(GetParam());
  std::vector<std::pair<std::uint64_t, std::uint64_t>> metadata;
  {
    MemoryStore place(image, "place");
    ntfs::Filesystem fs(place);
    for (const ntfs::ClusterRun& run : fs.mft_runs())
      metadata.emplace_back(fs.geometry().offset(run.lcn), run.count * fs.geometry().cluster_size);
  }
  const std::uint32_t seed = seed_of_run();
  std::mt19937 random(seed);
  SCOPED_TRACE(fmt::format("seed {}", seed));
  const int rounds = is_sanitized ? 10 : takes_all() ? 3000 : 40;
  const auto place = [&] {
    const auto& [start, length] = metadata[random() % metadata.size()];
    return start + random() % (length - 8);
  };
  spoil_at_random(image, rounds, random, place, look_everywhere);
}

// A system's checker finds its way from the base record: one that says it is none has no file.
TEST(NtfsRecords, ASystemFileThatCallsItselfAPartOfAnotherIsDamage) {
  for (const std::uint64_t number : {1, 6, 7, 8}) {
    SCOPED_TRACE(number);
    MemoryStore place = ntfs_sample("ntfs-desk");
    std::uint64_t at = 0;
    {
      ntfs::Filesystem fs(place);
      at = fs.record_offset(number) + offsetof(ntfs::RecordHeader, base);
    }
    place.write(at, bytes_of(Le64(40)));
    const Content content = recognise_content(place);
    if (!content.filesystem()) {
      EXPECT_FALSE(content.blockers.empty());
      continue;
    }
    Findings findings;
    EXPECT_TRUE(
        refuses([&] { content.on_disk()->audit(AuditScope::structure, {}, findings, silent); }) ||
        !findings.clean());
  }
}

INSTANTIATE_TEST_SUITE_P(Volumes, NtfsDamage,
                         testing::Values("ntfs-desk", "ntfs-512", "ntfs-packed", "ntfs-4kn"));

}  // namespace
}  // namespace jh::test

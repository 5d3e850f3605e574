// NTFS: recognising, reading the tree, the audit, growing, shrinking. Changes go to file records,
// indexes and lists.
#include "core/fs/ntfs/index.h"
#include "core/fs/ntfs/ntfs.h"
#include "core/guest/content.h"
#include "fuzz_base.h"

namespace {

using namespace jh;

fuzz::Places metadata_of(MemoryStore& image) {
  fuzz::Places places{{0, 90}};
  ntfs::Filesystem fs(image);
  const auto add = [&](const ntfs::ClusterRuns& runs) {
    for (const ntfs::ClusterRun& run : runs)
      if (!run.is_hole())
        places.emplace_back(fs.geometry().offset(run.lcn), run.count * fs.geometry().cluster_size);
  };
  add(fs.mft_runs());
  for (std::uint64_t number = 0; number < fs.records(); ++number) {
    try {
      const ntfs::File file(fs, fs.read_record(number));
      if (!file.base().in_use()) continue;
      if (file.list() && !file.list()->resident()) add(file.list()->runs(fs.geometry().clusters));
      if (const auto index = file.find(ntfs::type::index_allocation, u"$I30"))
        add(file.runs(*index));
    } catch (const Error&) {
    }
  }
  return places;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  MemoryStore image = fuzz::changed_image("ntfs", data, size, metadata_of);
  recognise_content(image);
  fuzz::expect_orderly([&] {
    ntfs::NtfsFilesystem fs(image);
    Silent silent;
    Findings findings;
    fs.audit(AuditScope::full, {}, findings, silent);
    fuzz::expect_orderly([&] {
      const auto tree = fs.tree();
      for (FileTree::Node node = 0; node < std::min<std::uint64_t>(tree->node_end(), 60); ++node)
        fuzz::expect_orderly([&] {
          if (tree->look(node).folder) tree->entries(node);
        });
    });
    fuzz::expect_orderly([&] { fs.read_text("Users/warden/Documents/none", 4096); });
    const std::uint64_t half = image.size() / 2;
    fuzz::expect_orderly([&] {
      MemoryStore smaller(image, "smaller");
      ntfs::NtfsFilesystem shrunk(smaller);
      const ResizePlan plan = shrunk.plan_resize(Bytes(half));
      shrunk.resize(plan.to, silent);
    });
    image.resize(image.size() * 3);
    const ResizePlan plan = fs.plan_resize(Bytes(image.size()));
    fs.resize(plan.to, silent);
  });
  return 0;
}

// NTFS: recognising, reading the tree, the audit, growing, shrinking. Changes go to file records,
// indexes and lists.
#include <map>

#include "core/fs/ntfs/index.h"
#include "core/fs/ntfs/ntfs.h"
#include "core/guest/content.h"
#include "fuzz_base.h"

namespace {

using namespace jh;

fuzz::Places find_metadata(MemoryStore& image) {
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

// Found once for each of the sound ones, which their serial numbers tell apart.
fuzz::Places metadata_of(MemoryStore& image) {
  static std::map<std::uint64_t, fuzz::Places> known;
  fuzz::Places& places = known[read_as<ntfs::BootSector>(image, 0).serial.value()];
  if (places.empty()) places = find_metadata(image);
  return places;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  // The first byte says what is done: all of it takes long.
  const unsigned what = data[0] % 4;
  MemoryStore image = fuzz::changed_image("ntfs", data + 1, size - 1, metadata_of);
  fuzz::expect_orderly([&] {
    if (what == 0) recognise_content(image);
    ntfs::NtfsFilesystem fs(image);
    NullProgress silent;
    if (what == 1) {
      Findings findings;
      fs.audit(AuditScope::full, {}, findings, silent);
      const auto tree = fs.tree();
      for (FileTree::Node node = 0; node < std::min<std::uint64_t>(tree->node_end(), 60); ++node)
        fuzz::expect_orderly([&] {
          if (tree->look(node).folder) tree->entries(node);
        });
      fuzz::expect_orderly([&] { fs.read_text("Users/warden/Documents/none", 4096); });
    }
    if (what == 2) fs.resize(fs.plan_resize(Bytes(image.size() / 2)).to, silent);
    if (what == 3) {
      image.resize(image.size() * 3);
      fs.resize(fs.plan_resize(Bytes(image.size())).to, silent);
    }
  });
  return 0;
}

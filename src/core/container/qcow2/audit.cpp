#include <fmt/format.h>

#include "core/container/qcow2/bitmaps.h"
#include "core/container/qcow2/qcow2.h"
#include "core/container/qcow2/references.h"

namespace jh::qcow2 {
namespace {

void compare_counts(const References& references, Refcounts& counts, const Image& image,
                    const std::string& where, Findings& findings) {
  references.for_each_run([&](std::uint64_t first, std::uint64_t clusters, std::uint64_t said) {
    for (std::uint64_t c = first; c < first + clusters; ++c)
      if (const std::uint64_t count = counts.count(c); count != said)
        findings.add(where, fmt::format("cluster {} has {} references, but its count is {}", c,
                                        said, count));
  });
  // Counts of clusters that nobody refers to: lost room.
  for (std::uint64_t block = 0; block < counts.table().size(); ++block) {
    if (counts.table()[block] == 0) continue;
    const std::uint64_t first = block * counts.per_block();
    for (std::uint64_t c = first; c < first + counts.per_block(); ++c) {
      if (counts.count(c) != 0 && references.at(c) == 0)
        findings.add(where,
                     fmt::format("cluster {} is counted as used, but nothing refers to it", c));
      if (c * image.cluster() > INT64_MAX) return;
    }
  }
}

}  // namespace

void Qcow2Container::audit(Findings& findings) {
  const std::string where = file_.name() + ", qcow2";
  Image image = image_;
  Refcounts counts(file_, image);
  const References references = find_references(file_, image_, l1_, counts.table(), findings);
  // Lazy counts may be behind; the dirty mark says that they are to be made anew.
  if (!image_.has(incompatible::dirty)) {
    compare_counts(references, counts, image_, where, findings);
    for (std::size_t i = 0; i < l1_.size(); ++i) {
      const std::uint64_t table = l1_[i] & offset_mask;
      if (table == 0) continue;
      if (((l1_[i] & copied) != 0) != (references.at(table / image_.cluster()) == 1))
        findings.add(where, fmt::format("L2 table {} is marked wrongly as having one owner", i));
    }
  }
  if (data_ != nullptr && data_->size() < image_.size &&
      (image_.raw.autoclear.value() & autoclear::raw_external) != 0)
    findings.add(where, "the data file is shorter than the disk");
}

void Qcow2Container::make_ready() {
  if (image_.has(incompatible::dirty)) {
    Findings findings;
    const References references = find_references(file_, image_, l1_, {}, findings);
    if (!findings.clean())
      damaged("the image's tables are damaged: " + findings.kept().front().what,
              findings.kept().front().where, "let the hypervisor check and repair the image first");
    refcounts().rebuild([&](const Refcounts::Counted& visit) { references.for_each_run(visit); });
    image_.raw.incompatible = image_.raw.incompatible.value() & ~incompatible::dirty;
  }
  mark_all_changed(file_, image_, refcounts());
  // Whoever writes without knowing what a bit stands for has to clear it.
  image_.raw.autoclear =
      image_.raw.autoclear.value() & (autoclear::raw_external | autoclear::bitmaps);
  write_header(file_, image_);
}

}  // namespace jh::qcow2

#include "core/container/vmdk/vmdk.h"

#include <fmt/format.h>

#include <algorithm>
#include <tuple>

#include "core/base/shell_word.h"
#include "core/base/uuid.h"
#include "core/container/chain.h"
#include "core/store/first_page_guard.h"

namespace jh::vmdk {
namespace {

// Longer than any descriptor of sense: a line for each of thousands of pieces.
constexpr std::uint64_t longest_descriptor = 1U << 20;

bool is_flat(const std::string& kind) { return kind == "FLAT" || kind == "VMFS"; }

std::string text_of(Store& file, std::uint64_t offset, std::uint64_t length) {
  const Buffer raw = read_buffer(file, offset, static_cast<std::size_t>(length));
  const std::string text(raw.begin(), raw.end());
  return text.substr(0, text.find('\0'));
}

}  // namespace

std::vector<std::string> parent_names(Store& file) {
  std::string text;
  if (holds(file, 0, magic)) {
    const auto header = read_as<SparseHeader>(file, 0);
    const std::uint64_t at = header.descriptor_offset.value();
    const std::uint64_t size = header.descriptor_size.value();
    if (at == 0 || size == 0 || size > longest_descriptor / sector || at > file.size() / sector ||
        (at + size) * sector > file.size())
      return {};
    text = text_of(file, at * sector, size * sector);
  } else if (holds(file, 0, descriptor_magic)) {
    text = text_of(file, 0, std::min(file.size(), longest_descriptor));
  }
  const Descriptor descriptor(text);
  const std::string name = descriptor.value("parentFileNameHint");
  if (name.empty() || fold_case(descriptor.value("parentCID")) == "ffffffff") return {};
  return {name};
}

std::vector<std::string> part_names(Store& file) {
  std::vector<std::string> names;
  if (!holds(file, 0, descriptor_magic)) return names;
  const Descriptor descriptor(text_of(file, 0, std::min(file.size(), longest_descriptor)));
  for (const ExtentLine& extent : descriptor.extents())
    if (extent.kind != "ZERO" && !extent.file.empty())
      names.push_back(path_beside(file.name(), extent.file));
  return names;
}

VmdkContainer::VmdkContainer(Store& file, FileResolver* resolver, std::vector<std::string> children)
    : file_(file), resolver_(resolver), descriptor_(read_descriptor()) {
  if (const auto names = parent_names(file); !names.empty()) {
    below_ = open_parent(file, resolver, names, std::move(children));
    const auto* parent = dynamic_cast<VmdkContainer*>(below_.get());
    if (parent != nullptr &&
        fold_case(parent->descriptor_.value("CID")) != fold_case(descriptor_.value("parentCID")))
      refuse("the image's parent was changed since, or is another one", below_->disk().name(),
             "it expects content with the number " + descriptor_.value("parentCID"));
  }
  open_extents();
}

std::string VmdkContainer::read_descriptor() {
  is_embedded_ = holds(file_, 0, magic);
  if (!is_embedded_) return text_of(file_, 0, std::min(file_.size(), longest_descriptor));
  embedded_ = read_as<SparseHeader>(file_, 0);
  const std::uint64_t at = embedded_.descriptor_offset.value();
  const std::uint64_t size = embedded_.descriptor_size.value();
  if (at == 0 || size == 0)
    refuse("this is a piece of a VMDK disk, not the disk", file_.name(),
           "name the file with the descriptor instead");
  if (size > longest_descriptor / sector || at > file_.size() / sector ||
      (at + size) * sector > file_.size())
    damaged("the VMDK descriptor lies past the file's end", file_.name());
  return text_of(file_, at * sector, size * sector);
}

void VmdkContainer::open_extents() {
  if (descriptor_.extents().empty()) damaged("the VMDK descriptor names no extents", file_.name());
  std::uint64_t start = 0;
  extents_.clear();
  for (std::size_t i = 0; i < descriptor_.extents().size(); ++i) {
    open_extent(i, start);
    start = checked_add(start, extents_.back().length);
  }
  if (start > static_cast<std::uint64_t>(INT64_MAX))
    damaged("the VMDK descriptor speaks of more than a disk can have", file_.name());
  check_overlaps();
  join();
}

// What two extents both kept would be written twice; a sparse one has its file to itself, and so
// has the descriptor.
void VmdkContainer::check_overlaps() const {
  struct Taken {
    std::string file;
    std::uint64_t from;
    std::uint64_t to;
  };
  std::vector<Taken> taken;
  if (!is_embedded_) taken.push_back({real_path(file_.name()), 0, UINT64_MAX});
  for (const DiskExtent& extent : extents_)
    if (extent.sparse)
      taken.push_back({real_path(extent.file->name()), 0, UINT64_MAX});
    else if (extent.file != nullptr && extent.length != 0)
      taken.push_back(
          {real_path(extent.file->name()), extent.offset, extent.offset + extent.length});
  std::sort(taken.begin(), taken.end(), [](const Taken& a, const Taken& b) {
    return std::tie(a.file, a.from) < std::tie(b.file, b.from);
  });
  for (std::size_t i = 1; i < taken.size(); ++i)
    if (taken[i].file == taken[i - 1].file && taken[i].from < taken[i - 1].to)
      damaged("two parts of the disk are said to lie in the same place of one file", taken[i].file,
              "take the descriptor from a backup");
}

void VmdkContainer::open_extent(std::size_t index, std::uint64_t start) {
  const ExtentLine& line = descriptor_.extents()[index];
  DiskExtent extent;
  extent.start = start;
  extent.length = checked_mul(line.sectors, sector);
  if (line.kind == "ZERO") {
    extents_.push_back(std::move(extent));
    return;
  }
  const std::string create = descriptor_.value("createType");
  // /dev/shm holds files, in memory.
  const bool on_device = line.file.starts_with("/dev/") && !line.file.starts_with("/dev/shm/");
  if (create.find("Device") != std::string::npos || on_device)
    unsupported("the VMDK disk lies on a device of its host: " + line.file, file_.name(),
                "recast it where that device is");
  if (line.kind != "SPARSE" && !is_flat(line.kind))
    unsupported("VMDK extents of the kind " + line.kind + " are not known", file_.name(),
                "let the hypervisor convert it");
  // The extent that the descriptor is in is this file, whatever it was called when it was made.
  const bool self = is_embedded_ && index == 0 && line.kind == "SPARSE";
  const std::string path = path_beside(file_.name(), line.file);
  extent.file = self ? &file_ : resolver_ == nullptr ? nullptr : resolver_->part(path);
  if (extent.file == nullptr)
    refuse("a part of the disk is not there", path, "put it back beside the descriptor");
  if (has_closed_first_page(*extent.file))
    refuse("the disk is in the middle of a change, which was interrupted", path,
           "run: " + suggest("recover", {file_.name()}));
  if (line.kind == "SPARSE") {
    extent.sparse = std::make_unique<SparseExtent>(*extent.file, below_, start);
    const std::uint64_t capacity = extent.sparse->disk().size();
    if (capacity < extent.length)
      damaged(fmt::format("the extent has {} bytes, but the descriptor says {}", capacity,
                          extent.length),
              path);
  } else {
    extent.offset = line.offset * sector;
    if (checked_add(extent.offset, extent.length) > extent.file->size())
      damaged(fmt::format("the extent's file is {} bytes long, but {} are needed",
                          extent.file->size(), extent.offset + extent.length),
              path, "the file was cut short; take it from a backup");
  }
  extents_.push_back(std::move(extent));
}

void VmdkContainer::join() {
  std::vector<JoinStore::Extent> pieces;
  for (const DiskExtent& extent : extents_) {
    if (extent.length == 0) continue;
    Store* store = extent.file;
    if (extent.sparse) store = &extent.sparse->disk();
    if (store == nullptr) {
      zeros_.push_back(std::make_unique<MemoryStore>(extent.length, file_.name()));
      store = zeros_.back().get();
    }
    pieces.push_back({store, extent.sparse ? 0 : extent.offset, extent.length});
  }
  if (pieces.empty()) damaged("the VMDK disk has no size", file_.name());
  disk_ = std::make_unique<JoinStore>(std::move(pieces), file_.name());
}

Extent VmdkContainer::extent_at(std::uint64_t offset, std::uint64_t length) {
  auto extent = std::upper_bound(
      extents_.begin(), extents_.end(), offset,
      [](std::uint64_t at, const DiskExtent& candidate) { return at < candidate.start; });
  --extent;
  const std::uint64_t inside = offset - extent->start;
  length = std::min(length, extent->length - inside);
  if (extent->sparse) return extent->sparse->extent_at(inside, length);
  if (extent->file == nullptr) return {Extent::Kind::zero, length, nullptr, 0};
  return {Extent::Kind::data, length, extent->file, extent->offset + inside};
}

std::uint64_t VmdkContainer::blocks_kept() {
  std::uint64_t kept = 0;
  for (const DiskExtent& extent : extents_)
    if (extent.sparse) kept += extent.sparse->blocks_kept();
  return kept;
}

void VmdkContainer::make_ready() {
  // A new number for the content: children of the old one are not to be used with the new.
  std::uint32_t id = 0;
  const Uuid random = random_guid();
  std::memcpy(&id, random.data(), sizeof(id));
  if (id >= 0xfffffffe) id = 1;
  descriptor_.set("CID", fmt::format("{:08x}", id));
  write_descriptor();
  for (const DiskExtent& extent : extents_)
    if (extent.sparse) extent.sparse->make_ready();
}

void VmdkContainer::write_descriptor() {
  const std::string text = descriptor_.text();
  if (is_embedded_) {
    const std::uint64_t room = embedded_.descriptor_size.value() * sector;
    if (text.size() > room) refuse("the VMDK descriptor has outgrown its place", file_.name());
    Buffer raw(room);
    std::copy(text.begin(), text.end(), raw.begin());
    file_.write(embedded_.descriptor_offset.value() * sector, raw);
    return;
  }
  // A file that becomes longer only: what is left of an older text would be read as well.
  Buffer raw(std::max<std::uint64_t>(file_.size(), text.size()), '\n');
  std::copy(text.begin(), text.end(), raw.begin());
  file_.resize(raw.size());
  file_.write(0, raw);
}

void VmdkContainer::allocate(std::uint64_t offset, std::uint64_t length) {
  for_each_sparse(offset, length,
                  [](auto& extent, auto at, auto bytes) { extent.allocate(at, bytes); });
}

void VmdkContainer::unmap(std::uint64_t offset, std::uint64_t length) {
  for_each_sparse(offset, length,
                  [](auto& extent, auto at, auto bytes) { extent.unmap(at, bytes); });
}

bool VmdkContainer::has_zero_mark() const {
  return std::all_of(extents_.begin(), extents_.end(), [](const DiskExtent& extent) {
    return !extent.sparse || extent.sparse->has_zero_mark();
  });
}

void VmdkContainer::reveal_parent(std::uint64_t offset, std::uint64_t length) {
  for_each_sparse(offset, length,
                  [](auto& extent, auto at, auto bytes) { extent.reveal_parent(at, bytes); });
}

void VmdkContainer::move_tables_only() {
  for (const DiskExtent& extent : extents_)
    if (extent.sparse) extent.sparse->move_tables_only();
}

ContainerFacts VmdkContainer::facts() {
  ContainerFacts facts;
  facts.format = ImageFormat::vmdk;
  facts.allocation = Allocation::full;
  std::uint64_t length = is_embedded_ ? 0 : file_.size();
  bool unclean = false;
  bool zero = false;
  for (const DiskExtent& extent : extents_) {
    if (extent.file == nullptr) zero = true;
    if (extent.file == nullptr) continue;
    const bool is_new =
        std::find(facts.parts.begin(), facts.parts.end(), extent.file->name()) == facts.parts.end();
    if (is_new) length += extent.file->size();
    if (is_new && extent.file != &file_) facts.parts.push_back(extent.file->name());
    if (!extent.sparse) continue;
    facts.allocation = extent.sparse->is_compressed() ? Allocation::compressed : Allocation::sparse;
    facts.block_size = extent.sparse->facts().block_size;
    facts.blocks += extent.sparse->facts().blocks;
    unclean = unclean || extent.sparse->is_unclean();
  }
  if (in_pieces())
    facts.variant = fmt::format("{} piece{} of two gigabytes", extents_.size(),
                                extents_.size() == 1 ? "" : "s");
  facts.disk_size = Bytes(disk_->size());
  facts.file_length = Bytes(length);
  if (in_pieces())
    facts.limit = "62 TiB";
  else if (facts.allocation != Allocation::full)
    facts.limit = "just under 2 TiB";
  facts.identity = descriptor_.value("CID");
  facts.adapter = descriptor_.value("ddb.adapterType");
  if (unclean) facts.pending_repairs.emplace_back("mark it as closed, which its last user did not");
  if (facts.allocation == Allocation::compressed)
    facts.blockers.push_back(in_the_way("the image is a stream of compressed grains, written once",
                                        file_.name(), "import it in the hypervisor"));
  if (zero)
    facts.blockers.push_back(in_the_way("a part of the disk is kept nowhere and reads as zeros",
                                        file_.name(), "convert it in the hypervisor"));
  if (below_) describe_parents(facts, below_.get(), below_->disk().name(), file_.name());
  return facts;
}

void VmdkContainer::audit(Findings& findings) {
  const std::string where = file_.name() + ", VMDK";
  for (std::size_t i = 0; i < extents_.size(); ++i) {
    const DiskExtent& extent = extents_[i];
    if (!extent.sparse) continue;
    if (extent.sparse->disk().size() != extent.length)
      findings.add(where, fmt::format("extent {} has {} bytes, but the descriptor says {}", i + 1,
                                      extent.sparse->disk().size(), extent.length));
    extent.sparse->audit(findings);
  }
}

}  // namespace jh::vmdk

// Growing and shrinking of VMDK disks, whose last pieces come and go.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "core/base/uuid.h"
#include "core/container/vmdk/vmdk.h"

namespace jh::vmdk {

// Names of further pieces go on where the present ones end.
std::string VmdkContainer::piece_name(std::size_t number) const {
  const bool sparse = extents_.back().sparse != nullptr;
  const std::string last = descriptor_.extents().back().file;
  const std::filesystem::path path(last);
  const std::string stem = path.stem().string();
  const std::string mark = sparse ? "-s" : "-f";
  const std::size_t at = stem.rfind(mark);
  const bool counted = at != std::string::npos && at + 2 < stem.size() &&
                       stem.find_first_not_of("0123456789", at + 2) == std::string::npos;
  const std::string base = counted ? stem.substr(0, at) : stem;
  return fmt::format("{}{}{:03}{}", base, mark, number, path.extension().string());
}

// Where the last of the disk's extents in this file ends; 0: it holds none.
std::uint64_t VmdkContainer::end_in(const Store* file) const {
  std::uint64_t end = 0;
  for (const DiskExtent& extent : extents_)
    if (extent.file == file) end = std::max(end, extent.offset + extent.length);
  return end;
}

// Another extent lies behind the last one, in the same file.
bool VmdkContainer::is_hemmed_in() const {
  const DiskExtent& last = extents_.back();
  return last.file != nullptr && !last.sparse && end_in(last.file) > last.offset + last.length;
}

VmdkContainer::Growth VmdkContainer::plan_growth(std::uint64_t new_size) const {
  Growth growth;
  const std::uint64_t add = new_size - disk_->size();
  const std::uint64_t last = extents_.back().length;
  if (!in_pieces()) {
    growth.last = last + add;
    return growth;
  }
  constexpr std::uint64_t most = most_piece_sectors * sector;
  const std::uint64_t here = last >= most || is_hemmed_in() ? 0 : std::min(add, most - last);
  growth.last = last + here;
  for (std::uint64_t done = here; done < add;) {
    const std::uint64_t step = std::min(add - done, most);
    growth.fresh.emplace_back(piece_name(extents_.size() + growth.fresh.size() + 1), step);
    done += step;
  }
  return growth;
}

void VmdkContainer::check_growth(Bytes new_size) {
  if (new_size.value() > static_cast<std::uint64_t>(INT64_MAX) / 2)
    refuse("no VMDK disk can be that large", file_.name());
  if (in_pieces()) {
    if (new_size.value() > 62ULL << 40)
      refuse("a VMDK disk reaches 62 TiB at most", file_.name(), "recast it into another form");
  } else if (extents_.back().sparse) {
    extents_.back().sparse->check_growth(
        Bytes(extents_.back().length + new_size.value() - disk_->size()));
  } else if (is_hemmed_in()) {
    refuse("the disk's last extent cannot become longer: another one lies behind it in its file",
           extents_.back().file->name(), "recast the image into a new one, which then grows");
  }
}

std::vector<std::string> VmdkContainer::new_parts(Bytes new_size) {
  std::vector<std::string> paths;
  for (const auto& [name, length] : plan_growth(new_size.value()).fresh)
    paths.push_back(path_beside(file_.name(), name));
  return paths;
}

void VmdkContainer::check_shrink(Bytes) {}

void VmdkContainer::set_cylinders(std::uint64_t disk_size) {
  const std::uint64_t heads = descriptor_.number("ddb.geometry.heads").value_or(16);
  const std::uint64_t per_track = descriptor_.number("ddb.geometry.sectors").value_or(63);
  if (heads == 0 || per_track == 0 || heads > 255 || per_track > 255) return;
  const std::uint64_t most =
      fold_case(descriptor_.value("ddb.adapterType")) == "ide" ? 16383 : 65535;
  descriptor_.set("ddb.geometry.cylinders",
                  std::to_string(std::min(disk_size / sector / heads / per_track, most)));
}

std::vector<std::string> VmdkContainer::parts_let_go(Bytes new_size) {
  std::vector<std::string> paths;
  for (std::size_t i = 1; i < extents_.size(); ++i) {
    const Store* file = extents_[i].file;
    const auto needs_it = [&](const DiskExtent& other) {
      return other.file == file && other.start < new_size.value();
    };
    if (extents_[i].start < new_size.value() || file == nullptr || file == &file_ ||
        std::any_of(extents_.begin(), extents_.end(), needs_it) ||
        std::find(paths.begin(), paths.end(), file->name()) != paths.end())
      continue;
    paths.push_back(file->name());
  }
  return paths;
}

void VmdkContainer::shrink(Bytes new_size) {
  while (extents_.size() > 1 && extents_.back().start >= new_size.value()) {
    Store* file = extents_.back().file;
    descriptor_.remove_last_extent();
    extents_.pop_back();
    if (file != nullptr && file != &file_) file->resize(end_in(file));
  }
  DiskExtent& last = extents_.back();
  const std::uint64_t length = new_size.value() - last.start;
  if (length < last.length) {
    last.length = length;
    if (last.sparse)
      last.sparse->shrink(Bytes(length));
    else if (last.file != nullptr)
      last.file->resize(end_in(last.file));
    descriptor_.set_sectors(extents_.size() - 1, length / sector);
  }
  set_cylinders(new_size.value());
  write_descriptor();
  open_extents();
}

std::uint64_t VmdkContainer::relocate_tail(std::uint64_t most) {
  std::uint64_t moved = 0;
  for (const DiskExtent& extent : extents_)
    if (extent.sparse && moved < most) moved += extent.sparse->relocate_tail(most - moved);
  return moved;
}

// Whatever lies in the file behind the extent is not the guest's: new capacity reads as zeros.
void VmdkContainer::lengthen(DiskExtent& flat, std::uint64_t length) {
  const std::uint64_t end = flat.offset + flat.length;
  const std::uint64_t new_end = flat.offset + length;
  const std::uint64_t size = flat.file->size();
  if (size > end) flat.file->discard(end, std::min(size, new_end) - end);
  if (size < new_end) flat.file->resize(new_end);
}

void VmdkContainer::grow(Bytes new_size) {
  const Growth growth = plan_growth(new_size.value());
  DiskExtent& last = extents_.back();
  if (growth.last != last.length) {
    if (last.sparse)
      last.sparse->grow(Bytes(growth.last));
    else
      lengthen(last, growth.last);
    descriptor_.set_sectors(extents_.size() - 1, growth.last / sector);
  }
  for (const auto& [name, length] : growth.fresh) {
    ensure(resolver_ != nullptr, "pieces have neighbours");
    const std::string path = path_beside(file_.name(), name);
    Store* piece = resolver_->part(path);
    ensure(piece != nullptr && piece->size() == 0, "a new piece begins as an empty file");
    ExtentLine line{"RW", length / sector, "SPARSE", name, 0, 0};
    if (last.sparse) {
      create_extent(*piece, length, "");
    } else {
      line.kind = "FLAT";
      piece->resize(length);
    }
    descriptor_.add_extent(line);
  }
  set_cylinders(new_size.value());
  write_descriptor();
  open_extents();
}

}  // namespace jh::vmdk

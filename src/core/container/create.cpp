#include "core/container/create.h"

#include <fmt/format.h>

#include <filesystem>

#include "core/container/qcow2/qcow2.h"
#include "core/container/vdi/vdi.h"
#include "core/container/vhd/vhd.h"
#include "core/container/vhdx/vhdx.h"
#include "core/container/vmdk/vmdk.h"

namespace jh {
namespace {

using vmdk::ExtentLine;

std::vector<ExtentLine> extents_for(const std::string& path, const NewContainer& wanted) {
  const std::filesystem::path file(path);
  const std::string stem = file.stem().string();
  const std::string end = file.extension().string();
  const std::uint64_t sectors = wanted.disk_size.value() / vmdk::sector;
  const bool full = wanted.allocation == Allocation::full;
  if (!wanted.in_pieces)
    return {
        {"RW", sectors, full ? "FLAT" : "SPARSE", full ? stem + "-flat" + end : stem + end, 0, 0}};
  std::vector<ExtentLine> extents;
  for (std::uint64_t done = 0; done < sectors; done += vmdk::most_piece_sectors)
    extents.push_back(
        {"RW", std::min(vmdk::most_piece_sectors, sectors - done), full ? "FLAT" : "SPARSE",
         fmt::format("{}-{}{:03}{}", stem, full ? 'f' : 's', extents.size() + 1, end), 0, 0});
  return extents;
}

bool has_own_file(const NewContainer& wanted) {
  return wanted.format == ImageFormat::vmdk &&
         (wanted.in_pieces || wanted.allocation == Allocation::full);
}

void create_vmdk(Store& file, const NewContainer& wanted, FileResolver* resolver) {
  const std::string text = descriptor_for(file.name(), wanted);
  if (!has_own_file(wanted)) {
    vmdk::create_extent(file, wanted.disk_size.value(), text);
    return;
  }
  file.resize(text.size());
  file.write(0, text_bytes(text));
  for (const ExtentLine& extent : extents_for(file.name(), wanted)) {
    Store* part =
        resolver == nullptr ? nullptr : resolver->part(path_beside(file.name(), extent.file));
    ensure(part != nullptr, "the parts of a new image are there");
    if (wanted.allocation == Allocation::full)
      part->resize(extent.sectors * vmdk::sector);
    else
      vmdk::create_extent(*part, extent.sectors * vmdk::sector, "");
  }
}

}  // namespace

std::uint32_t random_content_id() {
  const Uuid id = random_guid();
  std::uint32_t number = 0;
  std::memcpy(&number, id.data(), sizeof(number));
  return std::max(1U, number >> 1);
}

std::optional<ImageFormat> format_by_extension(const std::string& path) {
  const std::string end = fold_case(std::filesystem::path(path).extension().string());
  if (end == ".img" || end == ".raw") return ImageFormat::raw;
  if (end == ".qcow2") return ImageFormat::qcow2;
  if (end == ".vdi") return ImageFormat::vdi;
  if (end == ".vmdk") return ImageFormat::vmdk;
  if (end == ".vhd") return ImageFormat::vhd;
  if (end == ".vhdx") return ImageFormat::vhdx;
  return std::nullopt;
}

Bytes size_in_form(const NewContainer& wanted) {
  std::uint64_t unit = 512;
  if (wanted.format == ImageFormat::vhdx) unit = wanted.sector_size;
  if (wanted.format == ImageFormat::vhd && wanted.allocation == Allocation::full) unit = 1U << 20;
  return Bytes(round_up(wanted.disk_size.value(), unit));
}

std::vector<std::string> parts_of_new(const std::string& path, const NewContainer& wanted) {
  std::vector<std::string> parts;
  if (!has_own_file(wanted)) return parts;
  for (const ExtentLine& extent : extents_for(path, wanted))
    parts.push_back(path_beside(path, extent.file));
  return parts;
}

std::string descriptor_for(const std::string& path, const NewContainer& wanted) {
  const bool full = wanted.allocation == Allocation::full;
  const char* kind = wanted.allocation == Allocation::compressed ? "streamOptimized"
                     : wanted.in_pieces ? (full ? "twoGbMaxExtentFlat" : "twoGbMaxExtentSparse")
                     : full             ? "monolithicFlat"
                                        : "monolithicSparse";
  return vmdk::new_descriptor(kind, wanted.content_id, extents_for(path, wanted),
                              wanted.disk_size.value(), wanted.adapter);
}

void create_container(Store& file, const NewContainer& wanted, FileResolver* resolver) {
  const std::uint64_t size = wanted.disk_size.value();
  const bool full = wanted.allocation == Allocation::full;
  ensure(wanted.allocation != Allocation::compressed, "packed images are made by their writers");
  ensure(size_in_form(wanted) == wanted.disk_size, "the form can have this size");
  switch (wanted.format) {
    case ImageFormat::raw:
      file.resize(size);
      return;
    case ImageFormat::qcow2:
      qcow2::create(file, size, {});
      return;
    case ImageFormat::vdi:
      vdi::create(file, size, full, wanted.id);
      return;
    case ImageFormat::vmdk:
      create_vmdk(file, wanted, resolver);
      return;
    case ImageFormat::vhd:
      vhd::create(file, size, full, wanted.id);
      return;
    case ImageFormat::vhdx:
      vhdx::create(file, size, full, wanted.sector_size, wanted.id);
      return;
  }
}

}  // namespace jh

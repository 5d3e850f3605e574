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
  const bool full = wanted.keeping == Keeping::full;
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
  return wanted.form == Form::vmdk && (wanted.in_pieces || wanted.keeping == Keeping::full);
}

void create_vmdk(Store& file, const NewContainer& wanted, Neighbours* beside) {
  const std::string text = descriptor_for(file.name(), wanted);
  if (!has_own_file(wanted)) {
    vmdk::create_extent(file, wanted.disk_size.value(), text);
    return;
  }
  file.resize(text.size());
  file.write(0, text_bytes(text));
  for (const ExtentLine& extent : extents_for(file.name(), wanted)) {
    Store* part = beside == nullptr ? nullptr : beside->part(path_beside(file.name(), extent.file));
    ensure(part != nullptr, "the parts of a new image are there");
    if (wanted.keeping == Keeping::full)
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

std::optional<Form> form_by_ending(const std::string& path) {
  const std::string end = fold_case(std::filesystem::path(path).extension().string());
  if (end == ".img" || end == ".raw") return Form::raw;
  if (end == ".qcow2") return Form::qcow2;
  if (end == ".vdi") return Form::vdi;
  if (end == ".vmdk") return Form::vmdk;
  if (end == ".vhd") return Form::vhd;
  if (end == ".vhdx") return Form::vhdx;
  return std::nullopt;
}

Bytes size_in_form(const NewContainer& wanted) {
  std::uint64_t unit = 512;
  if (wanted.form == Form::vhdx) unit = wanted.sector_size;
  if (wanted.form == Form::vhd && wanted.keeping == Keeping::full) unit = 1U << 20;
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
  const bool full = wanted.keeping == Keeping::full;
  const char* kind = wanted.keeping == Keeping::packed ? "streamOptimized"
                     : wanted.in_pieces ? (full ? "twoGbMaxExtentFlat" : "twoGbMaxExtentSparse")
                     : full             ? "monolithicFlat"
                                        : "monolithicSparse";
  return vmdk::new_descriptor(kind, wanted.content_id, extents_for(path, wanted),
                              wanted.disk_size.value(), wanted.adapter);
}

void create_container(Store& file, const NewContainer& wanted, Neighbours* beside) {
  const std::uint64_t size = wanted.disk_size.value();
  const bool full = wanted.keeping == Keeping::full;
  ensure(wanted.keeping != Keeping::packed, "packed images are made by their writers");
  ensure(size_in_form(wanted) == wanted.disk_size, "the form can have this size");
  switch (wanted.form) {
    case Form::raw:
      file.resize(size);
      return;
    case Form::qcow2:
      qcow2::create(file, size, {});
      return;
    case Form::vdi:
      vdi::create(file, size, full, wanted.id);
      return;
    case Form::vmdk:
      create_vmdk(file, wanted, beside);
      return;
    case Form::vhd:
      vhd::create(file, size, full, wanted.id);
      return;
    case Form::vhdx:
      vhdx::create(file, size, full, wanted.sector_size, wanted.id);
      return;
  }
}

}  // namespace jh

#include "core/container/recognise.h"

#include <array>
#include <string_view>

#include "core/base/shell_word.h"
#include "core/base/uuid.h"
#include "core/base/words.h"
#include "core/container/chain.h"
#include "core/container/qcow2/qcow2.h"
#include "core/container/raw/raw.h"
#include "core/container/vdi/vdi.h"
#include "core/container/vhd/vhd.h"
#include "core/container/vhdx/vhdx.h"
#include "core/container/vmdk/vmdk.h"
#include "core/store/first_page_guard.h"

namespace jh {
namespace {

struct Signature {
  std::uint64_t offset;
  std::string_view bytes;
  ImageFormat format;
};

using namespace std::string_view_literals;

// Every form's published header begins with one of these.
constexpr std::array<Signature, 7> signatures{{
    {0, "QFI\xfb"sv, ImageFormat::qcow2},
    {0x40, "\x7f\x10\xda\xbe"sv, ImageFormat::vdi},
    {0, vmdk::magic, ImageFormat::vmdk},
    {0, vmdk::old_magic, ImageFormat::vmdk},
    {0, vmdk::descriptor_magic, ImageFormat::vmdk},
    {0, vhd::footer_cookie, ImageFormat::vhd},
    {0, vhdx::file_signature, ImageFormat::vhdx},
}};

}  // namespace

const char* format_name(ImageFormat format) {
  return word_of<ImageFormat::vhdx>(format, "raw", "qcow2", "VDI", "VMDK", "VHD", "VHDX");
}

const char* allocation_name(Allocation allocation) {
  return word_of<Allocation::compressed>(allocation, "sparse", "full", "packed");
}

ImageFormat recognise_format(Store& file) {
  for (const Signature& signature : signatures)
    if (holds(file, signature.offset, signature.bytes)) return signature.format;
  // A fixed VHD is a raw disk with a footer in the last 512 bytes.
  if (file.size() >= 1024 &&
      holds(file, round_down(file.size(), vhd::sector) - vhd::sector, vhd::footer_cookie))
    return ImageFormat::vhd;
  return ImageFormat::raw;
}

std::unique_ptr<Container> open_in_chain(Store& file, FileResolver* resolver,
                                         std::vector<std::string> children) {
  if (has_closed_first_page(file))
    refuse("this image is in the middle of a change, which was interrupted", file.name(),
           "run: " + suggest("recover", {file.name()}));
  switch (recognise_format(file)) {
    case ImageFormat::qcow2:
      return std::make_unique<qcow2::Qcow2Container>(file, resolver, std::move(children));
    case ImageFormat::vdi:
      return std::make_unique<vdi::VdiContainer>(file, resolver, std::move(children));
    case ImageFormat::vmdk:
      if (holds(file, 0, vmdk::old_magic))
        unsupported("the image is in an old sparse VMDK form, which is not known", file.name(),
                    "let the hypervisor convert it");
      return std::make_unique<vmdk::VmdkContainer>(file, resolver, std::move(children));
    case ImageFormat::vhd:
      return std::make_unique<vhd::VhdContainer>(file, resolver, std::move(children));
    case ImageFormat::vhdx:
      return std::make_unique<vhdx::VhdxContainer>(file, resolver, std::move(children));
    case ImageFormat::raw:
      break;
  }
  return std::make_unique<RawContainer>(file);
}

std::unique_ptr<Container> open_container(Store& file, FileResolver* resolver) {
  return open_in_chain(file, resolver, {});
}

std::vector<std::string> part_names(Store& file) {
  return recognise_format(file) == ImageFormat::vmdk ? vmdk::part_names(file)
                                                     : std::vector<std::string>{};
}

std::vector<std::string> parent_paths(Store& file, FileResolver& resolver) {
  std::vector<std::string> paths;
  switch (recognise_format(file)) {
    case ImageFormat::qcow2:
      paths = {qcow2::read_backing_name(file)};
      break;
    case ImageFormat::vdi:
      // It was looked for, and is a path already.
      if (std::string path = vdi::find_parent(file, resolver); !path.empty()) return {path};
      return {};
    case ImageFormat::vmdk:
      paths = vmdk::parent_names(file);
      break;
    case ImageFormat::vhd:
      paths = vhd::parent_names(file);
      break;
    case ImageFormat::vhdx:
      paths = vhdx::parent_names(file);
      break;
    case ImageFormat::raw:
      break;
  }
  std::erase(paths, std::string());
  for (std::string& path : paths) path = path_beside(file.name(), path);
  return paths;
}

namespace {

std::string identity_text(ImageFormat format, const std::optional<Uuid>& id) {
  if (!id || is_zero(*id)) return {};
  return std::string(format_name(format)) + " " + guid_text(*id);
}

}  // namespace

std::string identity_of(Store& file) {
  switch (recognise_format(file)) {
    case ImageFormat::vdi:
      return identity_text(ImageFormat::vdi, vdi::identity(file));
    case ImageFormat::vhd:
      return identity_text(ImageFormat::vhd, vhd::identity(file));
    case ImageFormat::vhdx:
      return identity_text(ImageFormat::vhdx, vhdx::content_identity(file));
    default:
      return {};
  }
}

std::string parent_identity_of(Store& file) {
  switch (recognise_format(file)) {
    case ImageFormat::vdi:
      return identity_text(ImageFormat::vdi, vdi::parent_identity(file));
    case ImageFormat::vhd:
      return identity_text(ImageFormat::vhd, vhd::parent_identity(file));
    case ImageFormat::vhdx:
      if (const std::string linkage = vhdx::parent_linkage(file); !linkage.empty())
        return std::string(format_name(ImageFormat::vhdx)) + " " + linkage;
      return {};
    default:
      return {};
  }
}

}  // namespace jh

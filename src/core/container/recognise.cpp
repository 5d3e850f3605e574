#include "core/container/recognise.h"

#include <array>
#include <string_view>

#include "core/base/shell_word.h"
#include "core/base/uuid.h"
#include "core/container/chain.h"
#include "core/container/qcow2/qcow2.h"
#include "core/container/raw/raw.h"
#include "core/container/vdi/vdi.h"
#include "core/container/vhd/vhd.h"
#include "core/container/vhdx/vhdx.h"
#include "core/container/vmdk/vmdk.h"
#include "core/store/front.h"

namespace jh {
namespace {

struct Signature {
  std::uint64_t offset;
  std::string_view bytes;
  Form form;
};

using namespace std::string_view_literals;

// Every form's published header begins with one of these.
constexpr std::array<Signature, 7> signatures{{
    {0, "QFI\xfb"sv, Form::qcow2},
    {0x40, "\x7f\x10\xda\xbe"sv, Form::vdi},
    {0, vmdk::magic, Form::vmdk},
    {0, vmdk::old_magic, Form::vmdk},
    {0, vmdk::descriptor_magic, Form::vmdk},
    {0, vhd::footer_cookie, Form::vhd},
    {0, vhdx::file_signature, Form::vhdx},
}};

}  // namespace

const char* form_name(Form form) {
  switch (form) {
    case Form::raw:
      return "raw";
    case Form::qcow2:
      return "qcow2";
    case Form::vdi:
      return "VDI";
    case Form::vmdk:
      return "VMDK";
    case Form::vhd:
      return "VHD";
    case Form::vhdx:
      return "VHDX";
  }
  return "";
}

const char* keeping_name(Keeping keeping) {
  switch (keeping) {
    case Keeping::sparse:
      return "sparse";
    case Keeping::full:
      return "full";
    case Keeping::packed:
      return "packed";
  }
  return "";
}

Form recognise_form(Store& file) {
  for (const Signature& signature : signatures)
    if (holds(file, signature.offset, signature.bytes)) return signature.form;
  // A fixed VHD is a raw disk with a footer in the last 512 bytes.
  if (file.size() >= 1024 &&
      holds(file, round_down(file.size(), vhd::sector) - vhd::sector, vhd::footer_cookie))
    return Form::vhd;
  return Form::raw;
}

std::unique_ptr<Container> open_in_chain(Store& file, Neighbours* beside,
                                         std::vector<std::string> children) {
  if (has_closed_front(file))
    refuse("this image is in the middle of a change, which was interrupted", file.name(),
           "run: juneheath recover " + shell_word(file.name()));
  switch (recognise_form(file)) {
    case Form::qcow2:
      return std::make_unique<qcow2::Qcow2Container>(file, beside, std::move(children));
    case Form::vdi:
      return std::make_unique<vdi::VdiContainer>(file, beside, std::move(children));
    case Form::vmdk:
      if (holds(file, 0, vmdk::old_magic))
        unsupported("the image is in an old sparse VMDK form, which is not known", file.name(),
                    "let the hypervisor convert it");
      return std::make_unique<vmdk::VmdkContainer>(file, beside, std::move(children));
    case Form::vhd:
      return std::make_unique<vhd::VhdContainer>(file, beside, std::move(children));
    case Form::vhdx:
      return std::make_unique<vhdx::VhdxContainer>(file, beside, std::move(children));
    case Form::raw:
      break;
  }
  return std::make_unique<RawContainer>(file);
}

std::unique_ptr<Container> open_container(Store& file, Neighbours* beside) {
  return open_in_chain(file, beside, {});
}

std::vector<std::string> part_names(Store& file) {
  return recognise_form(file) == Form::vmdk ? vmdk::part_names(file) : std::vector<std::string>{};
}

std::vector<std::string> parent_paths(Store& file, Neighbours& beside) {
  std::vector<std::string> paths;
  switch (recognise_form(file)) {
    case Form::qcow2:
      paths = {qcow2::read_backing_name(file)};
      break;
    case Form::vdi:
      // It was looked for, and is a path already.
      if (std::string path = vdi::find_parent(file, beside); !path.empty()) return {path};
      return {};
    case Form::vmdk:
      paths = vmdk::parent_names(file);
      break;
    case Form::vhd:
      paths = vhd::parent_names(file);
      break;
    case Form::vhdx:
      paths = vhdx::parent_names(file);
      break;
    case Form::raw:
      break;
  }
  std::erase(paths, std::string());
  for (std::string& path : paths) path = path_beside(file.name(), path);
  return paths;
}

namespace {

std::string identity_text(Form form, const std::optional<Uuid>& id) {
  if (!id || is_zero(*id)) return {};
  return std::string(form_name(form)) + " " + guid_text(*id);
}

}  // namespace

std::string identity_of(Store& file) {
  switch (recognise_form(file)) {
    case Form::vdi:
      return identity_text(Form::vdi, vdi::identity(file));
    case Form::vhd:
      return identity_text(Form::vhd, vhd::identity(file));
    case Form::vhdx:
      return identity_text(Form::vhdx, vhdx::content_identity(file));
    default:
      return {};
  }
}

std::string parent_identity_of(Store& file) {
  switch (recognise_form(file)) {
    case Form::vdi:
      return identity_text(Form::vdi, vdi::parent_identity(file));
    case Form::vhd:
      return identity_text(Form::vhd, vhd::parent_identity(file));
    case Form::vhdx:
      if (const std::string linkage = vhdx::parent_linkage(file); !linkage.empty())
        return std::string(form_name(Form::vhdx)) + " " + linkage;
      return {};
    default:
      return {};
  }
}

}  // namespace jh

#include "core/container/recognise.h"

#include <array>
#include <string_view>

#include "core/container/container.h"
#include "core/container/raw/raw.h"

namespace jh {
namespace {

struct Signature {
  std::uint64_t offset;
  std::string_view bytes;
  const char* form;
};

using namespace std::string_view_literals;

// Every form's published header begins with one of these.
constexpr std::array<Signature, 7> signatures{{
    {0, "QFI\xfb"sv, "qcow2"},
    {0x40, "\x7f\x10\xda\xbe"sv, "VDI"},
    {0, "KDMV"sv, "VMDK"},
    {0, "COWD"sv, "VMDK"},
    {0, "# Disk DescriptorFile"sv, "VMDK"},
    {0, "conectix"sv, "VHD"},
    {0, "vhdxfile"sv, "VHDX"},
}};

}  // namespace

std::optional<std::string> recognise_form(Store& file) {
  for (const Signature& signature : signatures)
    if (holds(file, signature.offset, signature.bytes)) return signature.form;
  // A fixed VHD is a raw disk with a footer in the last 512 bytes.
  if (file.size() >= 1024 && holds(file, file.size() - 512, "conectix"sv)) return "VHD";
  return std::nullopt;
}

std::unique_ptr<Container> open_container(Store& file) {
  if (const auto form = recognise_form(file))
    unsupported("the image is in " + *form + " form, which this release does not handle yet",
                file.name(), "make a raw copy with your hypervisor's own tools");
  return std::make_unique<RawContainer>(file);
}

}  // namespace jh

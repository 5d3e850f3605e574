#include "support/children.h"

#include "core/container/qcow2/qcow2.h"
#include "core/container/vdi/vdi.h"
#include "core/container/vhd/vhd.h"
#include "core/container/vhdx/vhdx.h"
#include "core/container/vmdk/vmdk.h"
#include "core/store/file_store.h"
#include "core/store/utf16.h"
#include "support/test.h"

namespace jh::test {
namespace {

void vdi_child(Store& child, Store& parent) {
  auto header = read_as<vdi::Header>(child, 0);
  const auto theirs = read_as<vdi::Header>(parent, 0);
  header.type = static_cast<std::uint32_t>(vdi::Type::differencing);
  header.parent = theirs.id;
  header.parent_modified = theirs.modified;
  child.write(0, bytes_of(header));
}

// The parent's name lies where the footer was, and the footer behind it.
void vhd_child(Store& child, Store& parent, const std::string& name) {
  auto header = read_as<vhd::Header>(child, 512);
  auto footer = read_as<vhd::Footer>(child, 0);
  header.parent_id = read_as<vhd::Footer>(parent, 0).id;
  const Buffer text = utf16_from_text(".\\" + name);
  const std::uint64_t end = child.size() - sizeof(footer);
  header.locators[0].platform = {'W', '2', 'r', 'u'};
  header.locators[0].space = 512;
  header.locators[0].length = static_cast<std::uint32_t>(text.size());
  header.locators[0].offset = end;
  footer.type = static_cast<std::uint32_t>(vhd::Type::differencing);
  header.checksum = vhd::checksum_of(header);
  footer.checksum = vhd::checksum_of(footer);
  child.resize(end + 512 + sizeof(footer));
  child.write(end, Buffer(512));
  child.write(end, text);
  child.write(512, bytes_of(header));
  child.write(0, bytes_of(footer));
  child.write(end + 512, bytes_of(footer));
}

// A parent locator as one more metadata item, behind all others.
void vhdx_child(Store& child, Store& parent, const std::string& name) {
  vhdx::Structure theirs;
  vhdx::read_headers(parent, theirs);
  vhdx::Structure s;
  vhdx::read_headers(child, s);
  vhdx::read_tables(child, s);
  const std::vector<std::pair<std::string, std::string>> pairs{
      {"relative_path", ".\\" + name},
      {"parent_linkage", "{" + guid_text(theirs.header.data_write) + "}"}};
  Buffer locator(2048);
  vhdx::ParentLocator head{};
  head.entries = 2;
  put_at(locator, 0, head);
  std::size_t at = sizeof(head) + 2 * sizeof(vhdx::ParentEntry);
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const Buffer key = utf16_from_text(pairs[i].first);
    const Buffer value = utf16_from_text(pairs[i].second);
    vhdx::ParentEntry entry{};
    entry.key_offset = static_cast<std::uint32_t>(at);
    entry.key_length = static_cast<std::uint16_t>(key.size());
    std::copy(key.begin(), key.end(), locator.begin() + static_cast<std::ptrdiff_t>(at));
    at += key.size();
    entry.value_offset = static_cast<std::uint32_t>(at);
    entry.value_length = static_cast<std::uint16_t>(value.size());
    std::copy(value.begin(), value.end(), locator.begin() + static_cast<std::ptrdiff_t>(at));
    at += value.size();
    put_at(locator, sizeof(head) + i * sizeof(entry), entry);
  }
  constexpr std::uint32_t place = 128U << 10;
  child.write(s.metadata.offset + place, locator);
  vhdx::MetadataEntry item{};
  item.id = vhdx::parent_locator_item;
  item.offset = place;
  item.length = static_cast<std::uint32_t>(locator.size());
  item.flags = vhdx::item_is_required;
  child.write(s.metadata.offset + 32 + s.items.size() * 32, bytes_of(item));
  child.write(s.metadata.offset + 10,
              bytes_of(Le16(static_cast<std::uint16_t>(s.items.size() + 1))));
  vhdx::FileParameters parameters{};
  parameters.block_size = static_cast<std::uint32_t>(s.block_size);
  parameters.flags = vhdx::has_parent;
  vhdx::write_item(child, s, vhdx::file_parameters_item, bytes_of(parameters));
}

std::string descriptor_in(Store& image, const vmdk::SparseHeader& header) {
  const Buffer raw = read_buffer(image, header.descriptor_offset.value() * vmdk::sector,
                                 header.descriptor_size.value() * vmdk::sector);
  return {raw.begin(), std::find(raw.begin(), raw.end(), 0)};
}

void vmdk_child(Store& child, Store& parent, const std::string& name) {
  const auto header = read_as<vmdk::SparseHeader>(child, 0);
  const vmdk::Descriptor theirs(descriptor_in(parent, read_as<vmdk::SparseHeader>(parent, 0)));
  std::string text = descriptor_in(child, header);
  const std::string none = "parentCID=ffffffff\n";
  text.replace(text.find(none), none.size(),
               "parentCID=" + theirs.value("CID") + "\nparentFileNameHint=\"" + name + "\"\n");
  text.resize(header.descriptor_size.value() * vmdk::sector, '\0');
  child.write(header.descriptor_offset.value() * vmdk::sector,
              {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
}

void qcow2_child(Store& child, const std::string& name) {
  auto header = read_as<qcow2::Header>(child, 0);
  header.backing_file_offset = 512;
  header.backing_file_size = static_cast<std::uint32_t>(name.size());
  child.write(0, bytes_of(header));
  child.write(512, {reinterpret_cast<const std::uint8_t*>(name.data()), name.size()});
}

}  // namespace

void make_child_of(Store& child, Store& parent, ImageFormat format, const std::string& name) {
  switch (format) {
    case ImageFormat::qcow2:
      return qcow2_child(child, name);
    case ImageFormat::vdi:
      return vdi_child(child, parent);
    case ImageFormat::vmdk:
      return vmdk_child(child, parent, name);
    case ImageFormat::vhd:
      return vhd_child(child, parent, name);
    case ImageFormat::vhdx:
      return vhdx_child(child, parent, name);
    case ImageFormat::raw:
      break;
  }
  ADD_FAILURE() << "a raw image builds on nothing";
}

std::string new_child(const std::string& parent, const std::string& name, ImageFormat format,
                      std::uint64_t disk_size) {
  const files::path folder = files::path(parent).parent_path();
  const std::string empty = folder / "empty.img";
  FileStore::create(empty)->resize(disk_size);
  const std::string path = folder / name;
  EXPECT_EQ(juneheath({"recast", empty, path, "--form", format_name(format), "--quiet"}).status, 0);
  files::remove(empty);
  FileStore child(path, Access::read_write);
  FileStore below(parent, Access::read_only);
  make_child_of(child, below, format, files::path(parent).filename());
  child.flush();
  return path;
}

}  // namespace jh::test

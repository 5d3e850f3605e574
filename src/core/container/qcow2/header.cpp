#include "core/container/qcow2/header.h"

#include <fmt/format.h>

#include <optional>

#include "core/container/qcow2/snapshots.h"

namespace jh::qcow2 {
namespace {

[[noreturn]] void corrupt(Store& file, const std::string& what) {
  damaged("the qcow2 header is corrupt: " + what, file.name(),
          "take the image from a backup, or let the hypervisor check it");
}

Header read_fixed(Store& file) {
  if (file.size() < version2_length) corrupt(file, "the file ends inside it");
  Header header{};
  const Buffer bytes = read_buffer(file, 0, std::min<std::uint64_t>(file.size(), sizeof(Header)));
  std::memcpy(&header, bytes.data(), bytes.size());
  if (header.magic.value() != magic) corrupt(file, "its signature");
  const std::uint32_t version = header.version.value();
  if (version != 2 && version != 3)
    unsupported(fmt::format("qcow2 version {} is not known", version), file.name());
  if (version == 2) {
    header.incompatible = 0;
    header.compatible = 0;
    header.autoclear = 0;
    header.refcount_order = 4;
    header.header_length = version2_length;
    header.compression = 0;
  } else if (header.header_length.value() <= version3_length) {
    header.compression = 0;
  }
  return header;
}

std::string text_at(Store& file, std::uint64_t offset, std::uint64_t length, const char* what) {
  constexpr std::uint64_t longest = 4096;
  if (length > longest || checked_add(offset, length) > file.size())
    corrupt(file, fmt::format("where the {} is", what));
  const Buffer bytes = read_buffer(file, offset, length);
  std::string text(bytes.begin(), bytes.end());
  if (text.find('\0') != std::string::npos)
    corrupt(file, fmt::format("the {} has a zero in it", what));
  return text;
}

void check_features(Store& file, const Image& image) {
  const std::uint64_t unknown = image.raw.incompatible.value() & ~incompatible::known;
  if (unknown != 0)
    unsupported(
        fmt::format("the qcow2 image uses features that are not known (bits {:#x})", unknown),
        file.name(), "let the hypervisor convert it to a plain one");
  if (image.has(incompatible::corrupt))
    refuse("the image is marked as corrupt by its hypervisor", file.name(),
           "let the hypervisor check and repair it first");
  if (image.raw.compression > 1)
    unsupported(fmt::format("the qcow2 image is compressed in way {}, which is not known",
                            image.raw.compression),
                file.name());
}

void read_extensions(Store& file, Image& image) {
  std::uint64_t at = image.raw.header_length.value();
  const std::uint64_t end = image.raw.backing_file_offset.value() != 0
                                ? std::min(image.raw.backing_file_offset.value(), image.cluster())
                                : image.cluster();
  while (at + sizeof(Extension) <= std::min(end, file.size())) {
    const auto extension = read_as<Extension>(file, at);
    const std::uint64_t length = extension.length.value();
    at += sizeof(Extension);
    if (extension.type.value() == extension::end) return;
    if (length > end - at || checked_add(at, length) > file.size())
      corrupt(file, "a header extension is longer than its cluster");
    if (extension.type.value() == extension::data_file)
      image.data_file = text_at(file, at, length, "data file's name");
    if (extension.type.value() == extension::bitmaps && length >= sizeof(BitmapsExtension))
      image.bitmaps = read_as<BitmapsExtension>(file, at);
    if (extension.type.value() == extension::encryption && length >= sizeof(EncryptionPointer))
      image.encryption = read_as<EncryptionPointer>(file, at);
    at += round_up(length, 8);
  }
}

}  // namespace

std::string read_backing_name(Store& file) {
  const Header header = read_fixed(file);
  if (header.backing_file_offset.value() == 0 || header.backing_file_size.value() == 0) return {};
  return text_at(file, header.backing_file_offset.value(), header.backing_file_size.value(),
                 "parent's name");
}

Image read_header(Store& file) {
  Image image;
  image.raw = read_fixed(file);
  image.version = image.raw.version.value();
  image.cluster_bits = image.raw.cluster_bits.value();
  image.size = image.raw.size.value();
  if (image.cluster_bits < 9 || image.cluster_bits > 21)
    corrupt(file, fmt::format("clusters of 2^{} bytes", image.cluster_bits));
  if (image.raw.refcount_order.value() > 6)
    corrupt(file, fmt::format("reference counts of 2^{} bits", image.raw.refcount_order.value()));
  image.refcount_bits = 1U << image.raw.refcount_order.value();
  const std::uint32_t length = image.raw.header_length.value();
  if (length < (image.version == 2 ? version2_length : version3_length) || length % 8 != 0 ||
      length > image.cluster())
    corrupt(file, fmt::format("a length of {} bytes", length));
  check_features(file, image);
  if (image.has(incompatible::extended_l2) && image.cluster_bits < 14)
    corrupt(file, "clusters too small to be divided");
  image.zstd = image.raw.compression == 1;
  if (image.size > static_cast<std::uint64_t>(INT64_MAX) - image.reach_of_table())
    corrupt(file, fmt::format("a disk of {} bytes", image.size));
  image.backing = read_backing_name(file);
  read_extensions(file, image);
  if (image.has(incompatible::external_data) && image.data_file.empty())
    corrupt(file, "the data is in another file, whose name is missing");
  read_snapshots(file, image);

  const auto check_table = [&](const char* what, std::uint64_t offset, std::uint64_t bytes,
                               std::uint64_t most) {
    if (bytes > most || offset % image.cluster() != 0 || checked_add(offset, bytes) > file.size())
      corrupt(file, fmt::format("the {} ({} bytes at {})", what, bytes, offset));
  };
  const std::uint64_t l1_bytes = checked_mul(image.raw.l1_size.value(), 8);
  check_table("L1 table", image.raw.l1_table_offset.value(), l1_bytes, max_l1_bytes);
  if (image.raw.l1_size.value() < image.tables_for(image.size))
    corrupt(file, fmt::format("an L1 table of {} entries is too small for the disk",
                              image.raw.l1_size.value()));
  check_table("refcount table", image.raw.refcount_table_offset.value(),
              checked_mul(image.raw.refcount_table_clusters.value(), image.cluster()),
              std::max(max_refcount_table_bytes, image.cluster()));
  if (image.raw.refcount_table_offset.value() == 0) corrupt(file, "no refcount table");
  return image;
}

void write_header(Store& file, const Image& image) {
  Header header = image.raw;
  header.size = image.size;
  // What stands behind the fixed fields is the extensions', or the future's.
  const std::size_t length =
      image.version == 2 ? version2_length
                         : std::min<std::size_t>(sizeof(Header), header.header_length.value());
  file.write(0, bytes_of(header).first(length));
}

}  // namespace jh::qcow2

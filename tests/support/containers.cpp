#include "support/containers.h"

#include <zstd.h>

#include <stdexcept>

#include "core/store/file_store.h"
#include "support/test.h"

namespace jh::test {

namespace {

// The images hold the same disk: all but one are kept as differences from that one.
constexpr const char* base = "v3.qcow2";

void decode(const std::string& compressed, const std::string& prefix, const std::string& to) {
  ZSTD_DCtx* context = ZSTD_createDCtx();
  ZSTD_DCtx_setParameter(context, ZSTD_d_windowLogMax, 31);
  if (!prefix.empty()) ZSTD_DCtx_refPrefix(context, prefix.data(), prefix.size());
  const auto out = FileStore::create(to);
  Buffer plain(65536);
  ZSTD_inBuffer input{compressed.data(), compressed.size(), 0};
  std::uint64_t at = 0;
  for (bool more = true; more;) {
    ZSTD_outBuffer output{plain.data(), plain.size(), 0};
    const std::size_t result = ZSTD_decompressStream(context, &output, &input);
    if (ZSTD_isError(result) != 0) throw std::runtime_error("damaged sample for " + to);
    more = result != 0 && (output.pos != 0 || input.pos < input.size);
    out->resize(at + output.pos);
    const ConstByteSpan fresh = ConstByteSpan(plain).first(output.pos);
    if (!all_zero(fresh)) out->write(at, fresh);
    at += output.pos;
  }
  ZSTD_freeDCtx(context);
  files::permissions(to, files::perms::owner_read | files::perms::owner_write);
}

void unpack_one(const std::string& name, const std::string& to) {
  const files::path folder = files::path(JUNEHEATH_FIXTURES) / "containers";
  const std::string packed_base = read_file((folder / (std::string(base) + ".zst")).string());
  if (name == base) {
    decode(packed_base, {}, to);
    return;
  }
  const TempFolder scratch;
  decode(packed_base, {}, scratch / base);
  decode(read_file((folder / (name + ".patch")).string()), read_file(scratch / base), to);
}

}  // namespace

std::string unpack_container(const std::string& name, const TempFolder& folder) {
  unpack_one(name == "base.qcow2" ? base : name, folder / name);
  const std::string data = files::path(name).stem().string() + "-ext.vmdk";
  if (files::exists(files::path(JUNEHEATH_FIXTURES) / "containers" / (data + ".patch")))
    unpack_one(data, folder / data);
  return folder / name;
}

std::string sha256_of(const std::string& path) {
  return run({"sha256sum", path}).out.substr(0, 64);
}

std::unique_ptr<MemoryImage> new_image(const NewContainer& wanted) {
  auto image = std::make_unique<MemoryImage>();
  const std::string path = "/moor/guest.img";
  image->main = &image->files.create(path);
  for (const std::string& part : parts_of_new(path, wanted)) image->files.create(part);
  create_container(*image->main, wanted, &image->files);
  image->open();
  return image;
}

const std::vector<Kind>& kinds() {
  static const std::vector<Kind> all{
      {"Raw", ImageFormat::raw, Allocation::sparse},
      {"Qcow2", ImageFormat::qcow2, Allocation::sparse},
      {"Vdi", ImageFormat::vdi, Allocation::sparse},
      {"VdiFull", ImageFormat::vdi, Allocation::full},
      {"Vmdk", ImageFormat::vmdk, Allocation::sparse},
      {"VmdkFull", ImageFormat::vmdk, Allocation::full},
      {"VmdkPieces", ImageFormat::vmdk, Allocation::sparse, true},
      {"VmdkFullPieces", ImageFormat::vmdk, Allocation::full, true},
      {"Vhd", ImageFormat::vhd, Allocation::sparse},
      {"VhdFull", ImageFormat::vhd, Allocation::full},
      {"Vhdx", ImageFormat::vhdx, Allocation::sparse},
      {"VhdxFull", ImageFormat::vhdx, Allocation::full},
      {"VhdxLargeSectors", ImageFormat::vhdx, Allocation::sparse, false, 4096},
  };
  return all;
}

NewContainer wanted(const Kind& kind, std::uint64_t size) {
  NewContainer container;
  container.format = kind.format;
  container.allocation = kind.allocation;
  container.in_pieces = kind.in_pieces;
  container.sector_size = kind.sector_size;
  container.disk_size = Bytes(size);
  container.id = {1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16};
  container.content_id = 0x1234abcd;
  return container;
}

}  // namespace jh::test

#include "core/fs/btrfs/decompress.h"

#include <lzo/lzo1x.h>
#include <zlib.h>
#include <zstd.h>

namespace jh::btrfs {
namespace {

std::optional<Buffer> inflated(ConstByteSpan compressed, std::uint64_t size) {
  Buffer out(size);
  z_stream stream{};
  if (inflateInit(&stream) != Z_OK) return std::nullopt;
  // zlib does not write to its input, but its declaration does not say so.
  stream.next_in = const_cast<Bytef*>(compressed.data());
  stream.avail_in = checked_cast<uInt>(compressed.size());
  stream.next_out = out.data();
  stream.avail_out = checked_cast<uInt>(size);
  const int result = inflate(&stream, Z_FINISH);
  inflateEnd(&stream);
  // What is compressed may be longer than what is asked for.
  if (result != Z_STREAM_END && result != Z_BUF_ERROR && result != Z_OK) return std::nullopt;
  out.resize(stream.total_out);
  return out;
}

std::optional<Buffer> from_zstd(ConstByteSpan compressed, std::uint64_t size) {
  Buffer out(size);
  ZSTD_DStream* stream = ZSTD_createDStream();
  if (stream == nullptr) return std::nullopt;
  ZSTD_inBuffer in{compressed.data(), compressed.size(), 0};
  ZSTD_outBuffer into{out.data(), out.size(), 0};
  std::size_t left = 1;
  while (left != 0 && into.pos < into.size) {
    const std::size_t before = in.pos + into.pos;
    left = ZSTD_decompressStream(stream, &into, &in);
    if (ZSTD_isError(left) != 0 || in.pos + into.pos == before) break;
  }
  ZSTD_freeDStream(stream);
  if (ZSTD_isError(left) != 0) return std::nullopt;
  out.resize(into.pos);
  return out;
}

// Its length in all, then pieces: length, bytes; none has its length across a sector's end. Each
// decompresses to a sector at most.
std::optional<Buffer> from_lzo(ConstByteSpan compressed, std::uint64_t size, std::uint64_t sector) {
  constexpr std::size_t word = 4;
  if (compressed.size() < word) return std::nullopt;
  const std::size_t all =
      std::min<std::size_t>(parse_as<Le32>(compressed, 0).value(), compressed.size());
  Buffer out;
  for (std::size_t at = word; at + word <= all && out.size() < size;) {
    if (sector - at % sector < word) at = round_up(at, sector);
    if (at + word > all) break;
    const std::size_t length = parse_as<Le32>(compressed, at).value();
    at += word;
    if (length > all - at) return std::nullopt;
    Buffer piece(sector);
    lzo_uint got = piece.size();
    if (lzo1x_decompress_safe(compressed.data() + at, length, piece.data(), &got, nullptr) !=
        LZO_E_OK)
      return std::nullopt;
    out.insert(out.end(), piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(got));
    at += length;
  }
  out.resize(std::min<std::uint64_t>(out.size(), size));
  return out;
}

}  // namespace

std::optional<Buffer> decompress(std::uint8_t how, ConstByteSpan compressed, std::uint64_t size,
                                 std::uint64_t sector_size) {
  switch (how) {
    case compression::none:
      return Buffer(compressed.begin(), compressed.end());
    case compression::zlib:
      return inflated(compressed, size);
    case compression::lzo:
      return from_lzo(compressed, size, sector_size);
    case compression::zstd:
      return from_zstd(compressed, size);
    default:
      return std::nullopt;
  }
}

}  // namespace jh::btrfs

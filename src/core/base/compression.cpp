#include "core/base/compression.h"

#include <zlib.h>
#include <zstd.h>

#include <memory>

#include "core/base/errors.h"

namespace jh {
namespace {

using Input = std::span<const std::uint8_t>;
using Output = std::span<std::uint8_t>;

// zlib's way of saying "no frame", with the window that qcow2 asks for.
int window_of(Compression way) { return way == Compression::deflate ? -12 : 15; }

void inflate_all(Compression way, Input compressed, Output out) {
  z_stream stream{};
  // Readers accept any window; writers must stay within the form's.
  ensure(inflateInit2(&stream, way == Compression::deflate ? -15 : 15) == Z_OK, "zlib starts");
  const std::unique_ptr<z_stream, int (*)(z_stream*)> guard(&stream, inflateEnd);
  stream.next_in = const_cast<Bytef*>(compressed.data());
  stream.avail_in = static_cast<uInt>(compressed.size());
  stream.next_out = out.data();
  stream.avail_out = static_cast<uInt>(out.size());
  const int result = inflate(&stream, Z_FINISH);
  const bool filled = stream.avail_out == 0;
  if (!filled || (result != Z_STREAM_END && result != Z_BUF_ERROR && result != Z_OK))
    damaged("a compressed block cannot be unpacked");
}

void unzstd_all(Input compressed, Output out) {
  const std::unique_ptr<ZSTD_DCtx, std::size_t (*)(ZSTD_DCtx*)> context(ZSTD_createDCtx(),
                                                                        ZSTD_freeDCtx);
  ensure(context != nullptr, "zstd starts");
  ZSTD_outBuffer to{out.data(), out.size(), 0};
  ZSTD_inBuffer from{compressed.data(), compressed.size(), 0};
  while (to.pos < to.size) {
    const std::size_t before = to.pos + from.pos;
    const std::size_t left = ZSTD_decompressStream(context.get(), &to, &from);
    if (ZSTD_isError(left) != 0 || to.pos + from.pos == before)
      damaged("a compressed block cannot be unpacked");
    if (left == 0 && to.pos < to.size) damaged("a compressed block is too short");
  }
}

}  // namespace

void decompress(Compression way, Input compressed, Output out) {
  way == Compression::zstd ? unzstd_all(compressed, out) : inflate_all(way, compressed, out);
}

std::vector<std::uint8_t> pack(Compression way, Input content, std::size_t most) {
  std::vector<std::uint8_t> compressed(most);
  if (way == Compression::zstd) {
    const std::size_t length =
        ZSTD_compress(compressed.data(), compressed.size(), content.data(), content.size(), 1);
    if (ZSTD_isError(length) != 0 || length >= most) return {};
    compressed.resize(length);
    return compressed;
  }
  z_stream stream{};
  ensure(deflateInit2(&stream, Z_DEFAULT_COMPRESSION, Z_DEFLATED, window_of(way), 8,
                      Z_DEFAULT_STRATEGY) == Z_OK,
         "zlib starts");
  const std::unique_ptr<z_stream, int (*)(z_stream*)> guard(&stream, deflateEnd);
  stream.next_in = const_cast<Bytef*>(content.data());
  stream.avail_in = static_cast<uInt>(content.size());
  stream.next_out = compressed.data();
  stream.avail_out = static_cast<uInt>(compressed.size());
  if (deflate(&stream, Z_FINISH) != Z_STREAM_END || stream.total_out >= most) return {};
  compressed.resize(stream.total_out);
  return compressed;
}

}  // namespace jh

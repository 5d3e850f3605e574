#include "core/container/packing.h"

#include <zlib.h>
#include <zstd.h>

#include <memory>

namespace jh {
namespace {

// zlib's way of saying "no frame", with the window that qcow2 asks for.
int window_of(Packing way) { return way == Packing::deflate ? -12 : 15; }

void inflate_all(Packing way, ConstByteSpan packed, ByteSpan out) {
  z_stream stream{};
  // Readers accept any window; writers must stay within the form's.
  ensure(inflateInit2(&stream, way == Packing::deflate ? -15 : 15) == Z_OK, "zlib starts");
  const std::unique_ptr<z_stream, int (*)(z_stream*)> guard(&stream, inflateEnd);
  stream.next_in = const_cast<Bytef*>(packed.data());
  stream.avail_in = static_cast<uInt>(packed.size());
  stream.next_out = out.data();
  stream.avail_out = static_cast<uInt>(out.size());
  const int result = inflate(&stream, Z_FINISH);
  const bool filled = stream.avail_out == 0;
  if (!filled || (result != Z_STREAM_END && result != Z_BUF_ERROR && result != Z_OK))
    damaged("a compressed block cannot be unpacked");
}

void unzstd_all(ConstByteSpan packed, ByteSpan out) {
  const std::unique_ptr<ZSTD_DCtx, std::size_t (*)(ZSTD_DCtx*)> context(ZSTD_createDCtx(),
                                                                        ZSTD_freeDCtx);
  ensure(context != nullptr, "zstd starts");
  ZSTD_outBuffer to{out.data(), out.size(), 0};
  ZSTD_inBuffer from{packed.data(), packed.size(), 0};
  while (to.pos < to.size) {
    const std::size_t before = to.pos + from.pos;
    const std::size_t left = ZSTD_decompressStream(context.get(), &to, &from);
    if (ZSTD_isError(left) != 0 || to.pos + from.pos == before)
      damaged("a compressed block cannot be unpacked");
    if (left == 0 && to.pos < to.size) damaged("a compressed block is too short");
  }
}

}  // namespace

void unpack(Packing way, ConstByteSpan packed, ByteSpan out) {
  way == Packing::zstd ? unzstd_all(packed, out) : inflate_all(way, packed, out);
}

Buffer pack(Packing way, ConstByteSpan content, std::size_t most) {
  Buffer packed(most);
  if (way == Packing::zstd) {
    const std::size_t length =
        ZSTD_compress(packed.data(), packed.size(), content.data(), content.size(), 3);
    if (ZSTD_isError(length) != 0 || length >= most) return {};
    packed.resize(length);
    return packed;
  }
  z_stream stream{};
  ensure(deflateInit2(&stream, Z_DEFAULT_COMPRESSION, Z_DEFLATED, window_of(way), 8,
                      Z_DEFAULT_STRATEGY) == Z_OK,
         "zlib starts");
  const std::unique_ptr<z_stream, int (*)(z_stream*)> guard(&stream, deflateEnd);
  stream.next_in = const_cast<Bytef*>(content.data());
  stream.avail_in = static_cast<uInt>(content.size());
  stream.next_out = packed.data();
  stream.avail_out = static_cast<uInt>(packed.size());
  if (deflate(&stream, Z_FINISH) != Z_STREAM_END || stream.total_out >= most) return {};
  packed.resize(stream.total_out);
  return packed;
}

}  // namespace jh

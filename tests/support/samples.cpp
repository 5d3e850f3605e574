#include "support/samples.h"

#include <sys/stat.h>
#include <unistd.h>
#include <zstd.h>

#include "core/base/checksum.h"
#include "core/store/file_store.h"
#include "core/table/mbr/format.h"
#include "support/test.h"

namespace jh::test {

TempFolder::TempFolder() {
  std::string pattern = (files::temp_directory_path() / "juneheath-test-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("no temporary folder");
  path_ = pattern;
}

TempFolder::~TempFolder() {
  std::error_code ignored;
  files::remove_all(path_, ignored);
}

std::string unpack_sample(const std::string& name, const std::string& to) {
  files::path from = files::path(JUNEHEATH_SAMPLES) / (name + ".img.zst");
  if (!files::exists(from)) from = files::path(JUNEHEATH_FIXTURES) / (name + ".img.zst");
  const std::string compressed = read_file(from.string());
  ZSTD_DStream* stream = ZSTD_createDStream();
  const auto out = FileStore::create(to);
  Buffer plain(1U << 20);
  ZSTD_inBuffer input{compressed.data(), compressed.size(), 0};
  std::uint64_t at = 0;
  bool more = true;
  while (more) {
    ZSTD_outBuffer output{plain.data(), plain.size(), 0};
    const std::size_t result = ZSTD_decompressStream(stream, &output, &input);
    if (ZSTD_isError(result) != 0) throw std::runtime_error("damaged sample " + from.string());
    more = output.pos != 0 || (input.pos < input.size && result != 0);
    out->resize(at + output.pos);
    const ConstByteSpan fresh = ConstByteSpan(plain).first(output.pos);
    if (!all_zero(fresh)) out->write(at, fresh);
    at += output.pos;
  }
  ZSTD_freeDStream(stream);
  files::permissions(to, files::perms::owner_read | files::perms::owner_write);
  return to;
}

MemoryStore load(const std::string& path) {
  FileStore file(path, Access::read_only);
  MemoryStore memory(file.size(), path);
  Buffer piece;
  for (std::uint64_t at = 0; at < file.size();) {
    const Range run = file.map(at, std::min<std::uint64_t>(1U << 20, file.size() - at));
    if (!run.zero) {
      piece.resize(run.length);
      file.read(at, piece);
      for (std::uint64_t i = 0; i < run.length; i += 4096) {
        const std::uint64_t step = std::min<std::uint64_t>(4096, run.length - i);
        const ConstByteSpan page = ConstByteSpan(piece).subspan(i, step);
        if (!all_zero(page)) memory.write(at + i, page);
      }
    }
    at += run.length;
  }
  return memory;
}

void save(Store& store, const std::string& path) {
  files::remove(path);
  const auto file = FileStore::create(path);
  file->resize(store.size());
  for (std::uint64_t at = 0; at < store.size();) {
    const Range run = store.map(at, std::min<std::uint64_t>(1U << 20, store.size() - at));
    if (!run.zero) write_into_zeros(*file, at, read_buffer(store, at, run.length));
    at += run.length;
  }
}

void make_sparse_file(const std::string& path, std::uint64_t size) {
  FileStore::create(path)->resize(size);
}

std::uint32_t file_digest(const std::string& path) {
  FileStore file(path, Access::read_only);
  // Holes and written zeros must give the same sum: only pages that are not zero are counted.
  std::uint32_t digest = static_cast<std::uint32_t>(file.size());
  Buffer page;
  for (std::uint64_t at = 0; at < file.size();) {
    const Range run = file.map(at, file.size() - at);
    if (run.zero) {
      at = std::min(file.size(), (at + run.length) / 4096 * 4096 + (run.length < 4096 ? 4096 : 0));
      continue;
    }
    for (const std::uint64_t end = at + run.length; at < end;) {
      const std::uint64_t start = at / 4096 * 4096;
      const std::uint64_t length = std::min<std::uint64_t>(4096, file.size() - start);
      page.resize(length);
      file.read(start, page);
      if (!all_zero(page)) {
        digest = crc32c_raw(digest, bytes_of(start));
        digest = crc32c_raw(digest, page);
      }
      at = start + length;
    }
  }
  return digest;
}

std::uint64_t allocated(const std::string& path) {
  struct stat facts {};
  if (::stat(path.c_str(), &facts) != 0) throw std::runtime_error("no file " + path);
  return static_cast<std::uint64_t>(facts.st_blocks) * 512;
}

std::string read_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  std::string text;
  std::error_code none;
  const std::uintmax_t size = files::file_size(path, none);
  if (!none) text.reserve(size + 1);
  // Many at a time: images are read so.
  for (std::size_t got = 1; got != 0;) {
    const std::size_t at = text.size();
    text.resize(at + std::max<std::size_t>(4096, text.capacity() - at));
    file.read(text.data() + at, static_cast<std::streamsize>(text.size() - at));
    got = static_cast<std::size_t>(file.gcount());
    text.resize(at + got);
  }
  return text;
}

void write_file(const std::string& path, const std::string& text) {
  std::ofstream(path, std::ios::binary) << text;
}

void poke(const std::string& path, std::uint64_t offset, const std::string& bytes) {
  FileStore file(path, Access::read_write);
  file.write(offset, {reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size()});
}

void set_mbr_entry(const std::string& path, int index, std::uint8_t type, std::uint32_t first,
                   std::uint32_t count) {
  mbr::Entry entry{};
  entry.type = type;
  entry.start_lba = first;
  entry.sectors = count;
  FileStore(path, Access::read_write)
      .write(446 + static_cast<std::uint64_t>(index) * sizeof(entry), bytes_of(entry));
}

}  // namespace jh::test

#include "core/live/notes.h"

#include <filesystem>
#include <fstream>
#include <iterator>

#include "core/base/errors.h"
#include "core/store/durable.h"

namespace jh::live {
namespace files = std::filesystem;

namespace {

void write_kept(const std::string& path, ConstByteSpan bytes, NameTaken taken) {
  try {
    make_durable_folder(files::path(path).parent_path().string());
    write_durable_file(path, bytes, taken, 0600);
  } catch (const Error& error) {
    if (error.status() != Status::io) throw;
    io_failed(error.what(), error.where(), "name another folder with --ledger-dir");
  }
}

}  // namespace

void write_new_file(const std::string& path, ConstByteSpan bytes) {
  write_kept(path, bytes, NameTaken::refused);
}

void Notes::put(const std::string& name, const std::string& text) const {
  write_kept(path_of(name), text_bytes(text), NameTaken::replaced);
}

std::optional<std::string> Notes::get(const std::string& name) const {
  std::ifstream file(path_of(name));
  if (!file) return std::nullopt;
  return std::string(std::istreambuf_iterator<char>(file), {});
}

void Notes::remove(const std::string& name) const {
  std::error_code error;
  files::remove(path_of(name), error);
}

}  // namespace jh::live

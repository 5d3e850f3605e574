#include "core/live/notes.h"

#include <filesystem>
#include <fstream>
#include <iterator>

#include "core/base/errors.h"
#include "core/store/durable.h"

namespace jh::live {
namespace files = std::filesystem;

void write_new_file(const std::string& path, ConstByteSpan bytes) {
  try {
    make_durable_folder(files::path(path).parent_path().string());
    write_durable_file(path, bytes, NameTaken::refused, 0600);
  } catch (const Error& error) {
    if (error.status() != Status::io) throw;
    io_failed(error.what(), error.where(), "name another folder with --ledger-dir");
  }
}

void Notes::put(const std::string& name, const std::string& text) const {
  try {
    make_durable_folder(folder_);
    write_durable_file(path_of(name),
                       {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()},
                       NameTaken::replaced, 0600);
  } catch (const Error& error) {
    io_failed(error.what(), error.where(), "name another folder with --ledger-dir");
  }
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

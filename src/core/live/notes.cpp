#include "core/live/notes.h"

#include <filesystem>
#include <fstream>
#include <iterator>

#include "core/base/errors.h"
#include "core/store/host.h"

namespace jh::live {
namespace files = std::filesystem;

void write_new_file(const std::string& path, ConstByteSpan bytes) {
  const std::string folder = files::path(path).parent_path().string();
  std::error_code error;
  files::create_directories(folder, error);
  if (error)
    io_failed("a folder cannot be made: " + error.message(), folder,
              "name another with --ledger-dir");
  const auto file = FileHost().create(path);
  file->resize(bytes.size());
  file->write(0, bytes);
  file->flush();
  flush_name(folder);
}

void Notes::put(const std::string& name, const std::string& text) const {
  remove(name);
  write_new_file(path_of(name), {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
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

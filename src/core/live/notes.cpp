#include "core/live/notes.h"

#include <filesystem>
#include <fstream>
#include <iterator>

#include "core/base/errors.h"
#include "core/store/file_store.h"
#include "core/store/host.h"

namespace jh::live {
namespace files = std::filesystem;

void Notes::put(const std::string& name, const std::string& text) const {
  std::error_code error;
  files::create_directories(folder_, error);
  if (error)
    io_failed("the folder for notes cannot be made: " + error.message(), folder_,
              "name another with --ledger-dir");
  remove(name);
  const auto file = FileStore::create(path_of(name));
  file->resize(text.size());
  file->write(0, ConstByteSpan(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
  file->flush();
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

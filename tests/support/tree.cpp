#include "support/tree.h"

#include <sys/stat.h>
#include <sys/xattr.h>

#include "core/base/checksum.h"
#include "core/store/store.h"
#include "support/test.h"

namespace jh::test {
namespace {

std::string attributes(const std::string& path) {
  std::string names(65536, '\0');
  const ssize_t length = ::llistxattr(path.c_str(), names.data(), names.size());
  std::string text;
  for (ssize_t at = 0; at < length;) {
    const std::string name = names.c_str() + at;
    std::string value(65536, '\0');
    const ssize_t size = ::lgetxattr(path.c_str(), name.c_str(), value.data(), value.size());
    text += name + "=" + value.substr(0, size > 0 ? static_cast<std::size_t>(size) : 0) + ";";
    at += static_cast<ssize_t>(name.size()) + 1;
  }
  return text;
}

}  // namespace

Facts tree_facts(const std::string& root) {
  Facts facts;
  const auto add = [&](const files::path& path) {
    struct stat info {};
    if (::lstat(path.c_str(), &info) != 0) return;
    std::string text = fmt::format("{:o} {} {} {} {} {}.{} {}", info.st_mode, info.st_uid,
                                   info.st_gid, info.st_size, info.st_nlink, info.st_mtim.tv_sec,
                                   info.st_mtim.tv_nsec, attributes(path.string()));
    if (S_ISLNK(info.st_mode)) text += " -> " + files::read_symlink(path).string();
    if (S_ISREG(info.st_mode)) {
      const std::string content = read_file(path.string());
      text += fmt::format(" {:08x}", crc32c({reinterpret_cast<const std::uint8_t*>(content.data()),
                                             content.size()}));
    }
    facts[files::relative(path, root).string()] = text;
  };
  add(root);
  for (const auto& entry : files::recursive_directory_iterator(root)) add(entry.path());
  return facts;
}

std::string tree_difference(const Facts& expected, const Facts& found) {
  std::string text;
  for (const auto& [path, facts] : expected) {
    const auto twin = found.find(path);
    if (twin == found.end())
      text += "missing: " + path + "\n";
    else if (twin->second != facts)
      text += path + ": " + facts + " is now " + twin->second + "\n";
  }
  for (const auto& [path, facts] : found)
    if (!expected.contains(path)) text += "new: " + path + "\n";
  return text;
}

}  // namespace jh::test

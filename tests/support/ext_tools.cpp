#include "support/ext_tools.h"

#include <fmt/format.h>

#include "core/base/checksum.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/relocate.h"
#include "core/store/file_store.h"

namespace jh::test {

void grow_ext(const std::string& path, std::uint64_t size) {
  FileStore file(path, Access::read_write);
  const std::uint64_t old_size = file.size();
  try {
    {
      ext::Filesystem fs(file);
      const auto plan = ext::plan_grow(fs, size / fs.geometry().block_size);
      file.resize(std::max(size, file.size()));
      ext::clear_table_way(fs, plan);
    }
    ext::Filesystem fs(file);
    ext::grow(fs, ext::plan_grow(fs, size / fs.geometry().block_size));
  } catch (const Error&) {
    file.resize(old_size);
    throw;
  }
}

Findings audit_ext(const std::string& path) {
  FileStore file(path, Access::read_only);
  Findings findings;
  Silent silent;
  try {
    ext::Filesystem fs(file);
    ext::audit(fs, {}, findings, silent);
  } catch (const Error& error) {
    findings.add(error.where(), error.what());
  }
  return findings;
}

std::map<std::string, std::string> own_tree_facts(const std::string& path) {
  FileStore file(path, Access::read_only);
  ext::Filesystem fs(file);
  std::map<std::string, std::string> facts;
  ext::walk_tree(fs, [&](const std::string& name, const ext::InodeRecord& inode) {
    const auto& f = inode.fields;
    Buffer content;
    if (inode.type() == ext::mode_file) content = ext::read_file(fs, inode, 16U << 20);
    facts[name] = fmt::format("{:o} {} {} {} {} {:08x} {}", f.mode.value(), f.uid_lo.value(),
                              inode.size(), f.mtime.value(), f.links_count.value(), crc32c(content),
                              inode.type() == ext::mode_link ? ext::read_link(fs, inode) : "");
  });
  return facts;
}

std::string words_of(const Findings& findings) {
  std::string text;
  for (const Finding& finding : findings.kept()) text += finding.where + ": " + finding.what + "\n";
  return text;
}

}  // namespace jh::test

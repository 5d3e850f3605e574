#include "support/ext_tools.h"

#include "core/base/checksum.h"
#include "core/fs/ext/audit.h"
#include "core/fs/ext/ext.h"
#include "core/fs/ext/read.h"
#include "core/fs/ext/relocate.h"
#include "core/fs/ext/shrink.h"
#include "core/store/file_store.h"
#include "support/test.h"
#include "support/tree.h"

namespace jh::test {

ext::Filesystem* ext_in(const Content& content) {
  auto* opened = dynamic_cast<ext::ExtFilesystem*>(content.filesystem());
  return opened == nullptr ? nullptr : &opened->inner();
}

void grow_ext(const std::string& path, std::uint64_t size) {
  FileStore file(path, Access::read_write);
  const std::uint64_t old_size = file.size();
  std::uint64_t blocks = 0;
  bool moves = false;
  {
    ext::Filesystem fs(file);
    blocks = size / fs.geometry().block_size;
    moves = ext::plan_grow(fs, blocks).descriptor_overrun() != 0;
  }
  // What finds no room while it moves is refused: then the file is put back.
  const std::string kept = path + ".kept";
  if (moves) files::copy_file(path, kept);
  try {
    file.resize(std::max(size, old_size));
    ext::clear_table_way(file, blocks, silent);
    ext::Filesystem fs(file);
    ext::grow(fs, ext::plan_grow(fs, blocks));
  } catch (const Error&) {
    file.resize(old_size);
    if (moves) files::rename(kept, path);
    throw;
  }
  files::remove(kept);
}

std::uint64_t shrink_ext(const std::string& path, std::uint64_t size) {
  FileStore file(path, Access::read_write);
  ext::Filesystem fs(file);
  const auto plan = ext::plan_shrink(fs, size / fs.geometry().block_size);
  ext::shrink(fs, plan, silent);
  return fs.geometry().blocks * fs.geometry().block_size;
}

std::uint64_t floor_of(const std::string& path) {
  FileStore file(path, Access::read_only);
  ext::Filesystem fs(file);
  return ext::find_floor(fs).blocks * fs.geometry().block_size;
}

Findings audit_ext(const std::string& path) {
  FileStore file(path, Access::read_only);
  Findings findings;
  try {
    ext::Filesystem fs(file);
    ext::audit(fs, {}, findings, silent);
  } catch (const Error& error) {
    findings.add(error.where(), error.what());
  }
  return findings;
}

Findings audit_ext_in(Container& container) {
  Findings findings;
  container.audit(findings);
  ext::Filesystem fs(container.disk());
  ext::audit(fs, {}, findings, silent);
  return findings;
}

Facts own_tree_facts(const std::string& path) {
  FileStore file(path, Access::read_only);
  ext::Filesystem fs(file);
  Facts facts;
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

// The tree as the kernel shows it, or as we read it where this kernel was built without the
// feature.
Facts ext_tree(const std::string& path) {
  if (can_mount()) {
    try {
      return tree_facts(Mounted(path, 0).path());
    } catch (const std::runtime_error&) {
      fmt::print("  {}: not mounted by this kernel; compared by our own reader\n", path);
    }
  }
  return own_tree_facts(path);
}

const std::vector<ExtKind>& ext_kinds() {
  static const std::vector<ExtKind> all{
      {"ext2", {"-t", "ext2"}},
      {"ext3", {"-t", "ext3"}},
      {"ext4", {}},
      {"without_flex_bg", {"-O", "^flex_bg"}},
      {"without_resize_inode", {"-O", "^resize_inode"}},
      {"meta_bg", {"-O", "meta_bg,^resize_inode"}},
      {"sparse_super2", {"-O", "sparse_super2"}},
      {"bigalloc", {"-O", "bigalloc", "-N", "1024"}},
      {"without_64bit", {"-O", "^64bit"}},
      {"inodes_of_128", {"-I", "128"}},
      {"inline_data", {"-O", "inline_data"}},
      {"ea_inode", {"-O", "ea_inode"}},
      {"quota", {"-O", "quota"}, false},
      {"project", {"-O", "project,quota"}, false},
      {"encrypt", {"-O", "encrypt"}},
      {"casefold", {"-O", "casefold"}},
      {"verity", {"-O", "verity"}},
      {"large_dir", {"-O", "large_dir"}},
      {"orphan_file", {"-O", "orphan_file"}},
      {"fast_commit", {"-O", "fast_commit"}},
      {"mmp", {"-O", "mmp"}},
      {"few_inodes", {"-N", "400"}},
      {"many_inodes", {"-i", "2048"}},
      {"flex_of_4", {"-G", "4"}},
      {"packed_metadata", {"-E", "packed_meta_blocks=1"}},
      {"raid_stride", {"-E", "stride=16,stripe_width=32"}},
      {"without_metadata_csum", {"-O", "^metadata_csum"}},
      {"uninit_bg", {"-O", "^metadata_csum,uninit_bg"}},
      {"without_sparse_super", {"-O", "^sparse_super,^resize_inode"}},
      {"without_journal", {"-O", "^has_journal"}},
      {"csum_seed", {"-O", "metadata_csum_seed"}},
  };
  return all;
}

void make_ext_kind(const ExtKind& kind, std::uint32_t block_size, const std::string& path,
                   std::uint64_t size, const Words& further, bool filled) {
  Words options = Words{"-b", std::to_string(block_size)} + kind.options;
  options.insert(options.end(), further.begin(), further.end());
  make_ext(path, size, options, filled && kind.filled);
}

std::string ext_kind_name(const std::tuple<int, int>& param) {
  return fmt::format("{}_{}", ext_kinds()[static_cast<std::size_t>(std::get<1>(param))].name,
                     1024U << std::get<0>(param));
}

std::string words_of(const Findings& findings) {
  std::string text;
  for (const Finding& finding : findings.kept()) text += finding.where + ": " + finding.what + "\n";
  return text;
}

}  // namespace jh::test

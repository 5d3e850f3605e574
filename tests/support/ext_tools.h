// Growing a filesystem in a file with the core, without tables or ledgers around it.
#pragma once

#include <map>
#include <string>
#include <tuple>
#include <vector>

#include "core/base/findings.h"
#include "core/container/container.h"
#include "core/fs/ext/filesystem.h"
#include "core/guest/content.h"
#include "support/program.h"

namespace jh::test {

/// The ext filesystem that a place holds; null: none that could be opened.
ext::Filesystem* ext_in(const Content& content);

/// Grows the filesystem in `path` to `size` bytes, moving what lies in the way. Throws Error.
void grow_ext(const std::string& path, std::uint64_t size);
/// Makes the filesystem in `path` smaller, to `size` bytes or a little less; the file stays as long
/// as it is. Returns the new size. Throws Error.
std::uint64_t shrink_ext(const std::string& path, std::uint64_t size);
/// The smallest size it can be brought to, in bytes.
std::uint64_t floor_of(const std::string& path);
/// Our own full audit.
Findings audit_ext(const std::string& path);
/// The same of a container, and of the filesystem that its disk is.
Findings audit_ext_in(Container& container);
/// Path → attributes and a sum of the content, by our own reader.
Facts own_tree_facts(const std::string& path);
/// The tree as the kernel shows it, or as we read it where this kernel was built without the
/// feature.
Facts ext_tree(const std::string& path);

/// The kinds of filesystem that the system's maker makes: options for it.
struct ExtKind {
  const char* name;
  std::vector<std::string> options;
  bool filled = true;  // the maker does not account quota for what it copies in: those stay empty
};
const std::vector<ExtKind>& ext_kinds();
/// Makes one of them, with further options; with content if the kind can have any.
void make_ext_kind(const ExtKind& kind, std::uint32_t block_size, const std::string& path,
                   std::uint64_t size, const std::vector<std::string>& further = {},
                   bool filled = true);
/// For tests over the power of the block size (from 1 KiB on) and the number of the kind.
std::string ext_kind_name(const std::tuple<int, int>& param);

/// "where: what" of each finding, a line each.
std::string words_of(const Findings& findings);

}  // namespace jh::test

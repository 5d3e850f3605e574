// Names that last: a file, a folder or a new name that is there when one of these returns is still
// there after a power cut. Nothing else gives files of our own their lasting names.
#pragma once

#include <sys/types.h>

#include <filesystem>
#include <string>

#include "core/store/store.h"

namespace jh {

/// The folder that a name is in: "." for a name alone.
std::filesystem::path folder_of(const std::string& path);

/// What happens to a file that has the name already.
enum class NameTaken { replaced, refused };

/// Makes what a folder, a file or a link stands in durable. Throws io.
void flush_name(const std::string& path);
/// Makes a folder, and all above it that are not there. Throws io.
void make_durable_folder(const std::string& path);
/// Gives a flushed file, or a folder, another name on the same filesystem, in one step. Throws io;
/// refused when the name is taken and must not be.
void rename_durably(const std::string& from, const std::string& to, NameTaken taken);
/// A whole file under its name, or none: it is written under a name that nobody can guess. Throws
/// io; refused when the name is taken and must not be.
void write_durable_file(const std::string& path, ConstByteSpan bytes,
                        NameTaken taken = NameTaken::replaced, mode_t mode = 0644);

}  // namespace jh

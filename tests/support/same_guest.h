// Whether a guest sees the same disk: what it has free may hold anything.
#pragma once

#include <map>
#include <string>

#include "core/fs/filesystem.h"
#include "core/store/host.h"
#include "core/store/memory_store.h"

namespace jh::test {

/// Every file by its path: a sum of what is fixed of it and of its content, however that is cut.
/// Files that the tree passes over are left out.
using Sums = std::map<std::string, std::uint32_t>;
Sums tree_sums(FilesystemOnDisk& fs);
/// The place holds a filesystem that is sound, by a full audit, and has these files.
void expect_sound_with(Store& place, const Sums& tree);

/// Asks a place that lies all that can be asked of it, its files only if that is wanted, since they
/// take their time: whatever it holds, errors are ordinary ones, and looking writes nothing. Fails
/// the test otherwise, with these words.
enum class Files { asked, left_out };
void look_all_over(MemoryStore& place, Files files, const std::string& words = {});

/// The disks in this image on two hosts: same size, and equal in every byte but those that `before`
/// has free. Further disks of the guest in `also`.
bool same_for_the_guest(Host& before, Host& after, const std::string& image,
                        const std::vector<std::string>& also = {});

/// Equal in every byte of these disks that the guest on the first host has in use.
bool same_where_used(Host& before, Host& after, const std::vector<std::string>& images);
/// The same for a guest with several disks.
std::string what_the_guests_disks_hold(Host& host, const std::vector<std::string>& images);
/// What the guest on this image finds: sizes of places, and the files in their filesystems.
std::string what_the_guest_finds(Host& host, const std::string& image);

/// What the system's checker says of every ext filesystem on these disks; empty: nothing.
std::string checker_says(Host& host, const std::vector<std::string>& images);

}  // namespace jh::test

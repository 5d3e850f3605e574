// Recover and undo for images of every form: what is a part of an image is asked of the image, and
// what a change handed out is looked for through its form.
#pragma once

#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/store/recovery.h"

namespace jh {

/// The images as the user named them; their parts are those that they name themselves, or that are
/// named as pieces of them.
Named named_images(Host& host, const std::vector<std::string>& images);

/// The files that the changes of these images are about, the images themselves among them.
std::vector<std::string> files_of_changes(Host& host, const std::vector<std::string>& images);

/// Every interrupted change that the named images lead to is finished or dropped.
std::vector<Recovered> recover_images(Host& host, const std::vector<std::string>& images);
/// The images are kept as they are, and the ledgers of interrupted changes removed. Throws damaged,
/// having removed none, when the audit of the images finds something.
std::vector<Recovered> keep_images_as_they_are(Host& host, const std::vector<std::string>& images,
                                               std::uint32_t sector_size, Progress& progress);

/// As check_undo and undo, and what the change handed out was not used since.
UndoFacts check_undo_images(Host& host, const std::vector<std::string>& images);
UndoFacts undo_images(Host& host, const std::vector<std::string>& images);

}  // namespace jh

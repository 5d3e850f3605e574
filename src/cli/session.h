// Opening the images of one command.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/guest/guest.h"
#include "core/store/host.h"

namespace jh::cli {

struct Session {
  std::vector<std::unique_ptr<FileStore>> files;
  std::unique_ptr<Guest> guest;
};

/// Opens all images read-only and reads the guest. Throws when one cannot be opened.
Session open_session(const std::vector<std::string>& images, std::uint32_t sector_size);
/// Throws refused when one of the images has an unfinished change.
void check_no_unfinished_change(Host& host, const std::vector<std::string>& images);

}  // namespace jh::cli

// Making new, empty images of every form.
#pragma once

#include <optional>

#include "core/base/uuid.h"
#include "core/container/container.h"

namespace jh {

struct NewContainer {
  ImageFormat format = ImageFormat::raw;
  Allocation allocation = Allocation::sparse;
  bool in_pieces = false;  // VMDK: files of two gigabytes
  Bytes disk_size;
  std::uint32_t sector_size = 512;  // VHDX keeps it
  Uuid id{};                        // of forms that have one
  std::uint32_t content_id = 0;     // VMDK
  std::string adapter = "ide";      // VMDK: the controller that the disk is made for
};

/// The number of a VMDK disk's content; never one of those that mean "none".
std::uint32_t random_content_id();

/// The form that a new file's name asks for by its ending; nothing: it asks for none.
std::optional<ImageFormat> format_by_extension(const std::string& path);

/// Sizes that the form cannot have become the next larger one that it can.
Bytes size_in_form(const NewContainer& wanted);

/// Paths of the further files that the image gets.
std::vector<std::string> parts_of_new(const std::string& path, const NewContainer& wanted);

/// Writes the empty image; `file` and the parts, found through `resolver`, are empty files.
/// Compressed images are made by their writers (recast.h).
void create_container(Store& file, const NewContainer& wanted, FileResolver* resolver);

/// The descriptor of a VMDK disk that is named like this file.
std::string descriptor_for(const std::string& path, const NewContainer& wanted);

}  // namespace jh

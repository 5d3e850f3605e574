// Container: the file format a guest's disk is kept in. Nothing above this file knows which.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/base/findings.h"
#include "core/base/sizes.h"
#include "core/store/store.h"

namespace jh {

struct ContainerFacts {
  std::string form;                // "raw", "block device"
  Bytes disk_size;                 // what the guest sees
  Bytes file_length;               // of the image on the host
  std::vector<std::string> notes;  // for the survey
};

class Container {
 public:
  Container() = default;
  Container(const Container&) = delete;
  Container& operator=(const Container&) = delete;
  virtual ~Container() = default;

  virtual ContainerFacts facts() const = 0;
  /// The disk as the guest sees it. Stays valid until grow().
  virtual Store& disk() = 0;
  /// Throws refused or unsupported when this form, or this image, cannot become so large.
  virtual void check_growth(Bytes new_size) const = 0;
  /// Makes the disk larger; the new bytes read as zeros.
  virtual void grow(Bytes new_size) = 0;
  /// The smallest unit of a disk size in this form.
  virtual Bytes size_unit() const = 0;
  virtual void audit(Findings& findings) = 0;
};

/// Opens the image by what it holds, never by its name. `file` must outlive the container.
/// Throws unsupported, naming the form, for forms that are recognised but not handled.
std::unique_ptr<Container> open_container(Store& file);

}  // namespace jh

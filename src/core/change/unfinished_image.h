// A new image that is being written: whoever sees its name may rely on it being whole.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/descriptor.h"
#include "core/store/host.h"

namespace jh {

/// Until finish() the files lie in a folder OUT.juneheath.new beside their place, under the names
/// that they will have (parts of a disk name each other). An unfinished one is removed with this
/// object; what a killed process has left is removed by the next try, or by `recover OUT`.
class UnfinishedImage {
 public:
  /// Throws refused when the name is taken, or reserved, or somebody is at work on it.
  explicit UnfinishedImage(const std::string& out);
  ~UnfinishedImage();
  UnfinishedImage(const UnfinishedImage&) = delete;
  UnfinishedImage& operator=(const UnfinishedImage&) = delete;

  const std::string& out() const { return out_; }
  /// Where to write it.
  const std::string& path() const { return path_; }
  /// Where to write a further file that is to have this place.
  std::string inside(const std::string& place) const;
  /// The place that a file in the folder will have.
  std::string place_of(const std::string& file) const;
  /// Throws refused when one of these further files could not be moved to its place.
  void check_places(const std::vector<std::string>& files) const;
  /// Moves these files, which are flushed, to their places, the image itself last; durable on
  /// return. A cut in between is finished by `recover`, or by the next try.
  void finish(const std::vector<std::string>& further = {});
  /// The folder itself takes the place, with all that was written inside.
  void finish_as_folder();

 private:
  std::string out_;
  std::string folder_;
  std::string path_;
  Descriptor lock_;
};

/// Finishes or removes what a killed process has left of a new image. Returns what was done;
/// nothing when there was none. Throws refused while somebody is at work on it.
std::optional<std::string> clear_unfinished_image(const std::string& out);

/// Throws refused for names that ledgers and unfinished images are kept under.
void check_name_is_free(const std::string& out);

}  // namespace jh

// The other files that an image speaks of: parts of its disk, and images that it builds on.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "core/store/host.h"

namespace jh {

class FileResolver {
 public:
  FileResolver() = default;
  FileResolver(const FileResolver&) = delete;
  FileResolver& operator=(const FileResolver&) = delete;
  virtual ~FileResolver() = default;

  /// A file that holds a part of the same disk; it changes when the disk does. Null: there is none.
  virtual Store* part(const std::string& path) = 0;
  /// An image that another one builds on; only read. Null: there is none.
  virtual Store* parent(const std::string& path) = 0;
  /// Paths of the regular files in the folder of this file, itself not among them; at most 4096.
  virtual std::vector<std::string> siblings(const std::string& path) = 0;
};

/// A name as an image gives it, seen from the image's own folder. Absolute names stay.
std::string path_beside(const std::string& image, const std::string& name);

/// The path without links and detours, for comparing; as it is when there is no such file.
std::string real_path(const std::string& path);

/// On the host, everything opened once and read-only; or parts for writing.
class HostFileResolver final : public FileResolver {
 public:
  explicit HostFileResolver(Host& host, Access parts = Access::read_only)
      : host_(host), parts_(parts) {}
  Store* part(const std::string& path) override;
  Store* parent(const std::string& path) override;
  std::vector<std::string> siblings(const std::string& path) override;
  /// A part that is not there yet.
  Store& create_part(const std::string& path);

 private:
  Store* open(const std::string& path, Access access);

  Host& host_;
  Access parts_;
  std::map<std::string, std::unique_ptr<Store>> opened_;
};

/// Parts out of a list, everything else from another resolver: how containers are opened on stages.
class ListedFileResolver final : public FileResolver {
 public:
  explicit ListedFileResolver(FileResolver* others = nullptr) : others_(others) {}
  void add(const std::string& path, Store& store) { parts_[path] = &store; }
  Store* part(const std::string& path) override;
  Store* parent(const std::string& path) override {
    return others_ == nullptr ? nullptr : others_->parent(path);
  }
  std::vector<std::string> siblings(const std::string& path) override {
    return others_ == nullptr ? std::vector<std::string>() : others_->siblings(path);
  }

 private:
  FileResolver* others_;
  std::map<std::string, Store*> parts_;
};

}  // namespace jh

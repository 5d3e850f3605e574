// Host: the folder-level half of storage. Names come and go durably and atomically here, so that
// the ledger, and the tests that cut the power, need no other view of the operating system.
#pragma once

#include <memory>
#include <string>

#include "core/store/file_store.h"
#include "core/store/store.h"

namespace jh {

/// Tells one file from another, as long as nobody copies it.
struct FileIdentity {
  std::uint64_t device = 0;
  std::uint64_t node = 0;
  bool operator==(const FileIdentity&) const = default;
};

class Host {
 public:
  Host() = default;
  Host(const Host&) = delete;
  Host& operator=(const Host&) = delete;
  virtual ~Host() = default;

  virtual std::unique_ptr<Store> open(const std::string& path, Access access) = 0;
  /// A new, empty file; an Error when the name is taken. The name is durable on return.
  virtual std::unique_ptr<Store> create(const std::string& path) = 0;
  virtual bool exists(const std::string& path) = 0;
  /// Gives a file the permissions, and where it may the owner, of another.
  virtual void take_after(const std::string& /*path*/, const std::string& /*model*/) {}
  /// Durable on return. Removing what is not there is no error.
  virtual void remove(const std::string& path) = 0;
  /// Atomic, replacing what has the new name; durable on return.
  virtual void rename(const std::string& from, const std::string& to) = 0;
  virtual std::uint64_t free_space(const std::string& path) = 0;
  virtual FileIdentity identity(const std::string& path) = 0;
  /// Where the ledger of this image is kept.
  virtual std::string ledger_path(const std::string& image) = 0;
};

/// Removes what an unsuccessful work has made: the error that ended it is the one to tell. Returns
/// whether it is gone.
bool remove_quietly(Host& host, const std::string& path);

/// The real one. Ledgers lie beside regular images; those of block devices, whose folder does not
/// outlive a reboot, in `ledger_folder`.
class FileHost final : public Host {
 public:
  explicit FileHost(std::string ledger_folder = "/var/lib/juneheath")
      : ledger_folder_(std::move(ledger_folder)) {}
  std::unique_ptr<Store> open(const std::string& path, Access access) override;
  std::unique_ptr<Store> create(const std::string& path) override;
  bool exists(const std::string& path) override;
  void take_after(const std::string& path, const std::string& model) override;
  void remove(const std::string& path) override;
  void rename(const std::string& from, const std::string& to) override;
  std::uint64_t free_space(const std::string& path) override;
  FileIdentity identity(const std::string& path) override;
  std::string ledger_path(const std::string& image) override;

 private:
  std::string ledger_folder_;
};

}  // namespace jh

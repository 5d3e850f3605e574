// Host: the folder-level half of storage. Names come and go durably and atomically here, so that
// the ledger, and the tests that cut the power, need no other view of the operating system.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/store/durable.h"
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
  /// The same for a file of our own: a plain one with a single name, no link. Throws refused.
  virtual std::unique_ptr<Store> open_plain(const std::string& path, Access access) {
    return open(path, access);
  }
  /// A new, empty file; an Error when the name is taken. The name is durable on return.
  virtual std::unique_ptr<Store> create(const std::string& path) = 0;
  virtual bool exists(const std::string& path) = 0;
  /// Gives a file the permissions, and where it may the owner, of another.
  virtual void copy_owner_and_mode(const std::string& /*path*/, const std::string& /*model*/) {}
  /// Durable on return. Removing what is not there is no error.
  virtual void remove(const std::string& path) = 0;
  /// Atomic, replacing what has the new name; durable on return.
  virtual void rename(const std::string& from, const std::string& to) = 0;
  virtual std::uint64_t free_space(const std::string& path) = 0;
  virtual FileIdentity identity(const std::string& path) = 0;
  /// By what a block device is known wherever it is attached (a serial number, a mapping's
  /// identity); empty for regular files, and for devices that say nothing of themselves.
  virtual std::string device_name(const std::string& /*path*/) { return {}; }
  /// How many names a regular file has.
  virtual std::uint64_t link_count(const std::string& /*path*/) { return 1; }
  virtual bool has_folder(const std::string& /*path*/) { return true; }
  /// Whether writing over what a file holds needs room of its own on this host.
  virtual bool overwriting_needs_room(const std::string& /*path*/) { return false; }
  /// Whether a new file of this name can share blocks with one that is there. Leaves nothing.
  virtual bool can_share(const std::string& /*from*/, const std::string& /*to*/) { return false; }
  /// Throws refused for a file that an image speaks of and must not lead to.
  virtual void check_path_allowed(const std::string& /*path*/) {}
  /// A file without a name beside this one, which is gone when it is closed; null: there is none on
  /// this host.
  virtual std::unique_ptr<Store> create_unnamed(const std::string& /*beside*/) { return nullptr; }
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
  /// Which files an image may lead to that nobody named: regular ones in these folders, or
  /// anywhere.
  struct Reach {
    std::vector<std::string> folders;
    bool anywhere = true;
  };
  explicit FileHost(std::string ledger_folder = "/var/lib/juneheath")
      : FileHost(std::move(ledger_folder), {}) {}
  FileHost(std::string ledger_folder, Reach reach)
      : ledger_folder_(std::move(ledger_folder)), reach_(std::move(reach)) {}
  std::unique_ptr<Store> open(const std::string& path, Access access) override;
  std::unique_ptr<Store> create(const std::string& path) override;
  std::unique_ptr<Store> open_plain(const std::string& path, Access access) override;
  bool exists(const std::string& path) override;
  void copy_owner_and_mode(const std::string& path, const std::string& model) override;
  void remove(const std::string& path) override;
  void rename(const std::string& from, const std::string& to) override;
  std::uint64_t free_space(const std::string& path) override;
  /// Bytes of the host's room that a file has; what it shares with others counts too.
  std::uint64_t allocated(const std::string& path);
  FileIdentity identity(const std::string& path) override;
  std::string device_name(const std::string& path) override;
  std::uint64_t link_count(const std::string& path) override;
  bool has_folder(const std::string& path) override;
  bool overwriting_needs_room(const std::string& path) override;
  bool can_share(const std::string& from, const std::string& to) override;
  std::unique_ptr<Store> create_unnamed(const std::string& beside) override;
  std::string ledger_path(const std::string& image) override;
  void check_path_allowed(const std::string& path) override;

 private:
  std::string ledger_folder_;
  Reach reach_;
};

}  // namespace jh

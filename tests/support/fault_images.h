// The files of one image of any kind, put on hosts whose power is cut.
#pragma once

#include "core/container/fill.h"
#include "support/changes.h"
#include "support/containers.h"
#include "support/power_cuts.h"
#include "support/same_guest.h"
#include "support/test.h"

namespace jh::test {

class FaultImages : public testing::TestWithParam<Kind> {
 protected:
  /// Keeps the disk in an image of the test's kind.
  void keep(const MemoryStore& disk) {
    MemoryStore content(disk, "content");
    const auto from = open_container(content);
    auto made = new_image(wanted(GetParam(), content.size()));
    fill_disk(*from, *made->container, silent);
    for (const std::string& path : made->files.siblings("")) {
      auto* store = dynamic_cast<MemoryStore*>(made->files.part(path));
      old_.emplace(path, MemoryStore(*store, path));
    }
  }
  void put(FaultHost& host) const {
    for (const auto& [path, content] : old_) host.put(path, content);
  }
  /// The same as the beginning of a sweep.
  PowerCuts::Work prepared() const {
    return [this](FaultHost& host) { put(host); };
  }
  /// All files are there, and each is what it was, to the byte.
  bool is_identical(const FaultHost& host) const {
    for (const auto& [path, content] : old_)
      if (!host.content(path).same_content(content)) return false;
    return true;
  }
  /// All files are there, no other but ledgers, and the guest sees what it saw: every byte of the
  /// disk that something refers to is the same.
  bool is_old(FaultHost& host) const {
    std::size_t files = 0;
    for (const std::string& name : host.names())
      files += name.find(".juneheath") == std::string::npos;
    if (files != old_.size()) return false;
    if (is_identical(host)) return true;
    FaultHost before;
    put(before);
    // A piece's name is longer than that of the disk.
    const auto main = std::min_element(old_.begin(), old_.end(), [](const auto& a, const auto& b) {
      return a.first.size() < b.first.size();
    });
    return same_for_the_guest(before, host, main->first);
  }

  std::map<std::string, MemoryStore> old_;
};

}  // namespace jh::test

// Tables of a qcow2 file that were read: L2 tables, and blocks of counts.
#pragma once

#include <map>

#include "core/container/qcow2/image.h"

namespace jh::qcow2 {

class TableCache {
 public:
  /// The table of this number, read by `read` where it is not kept. It stays where it is until one
  /// that is not kept is asked for.
  template <class Read>
  Buffer& of(std::uint64_t index, const Read& read) {
    // Neighbours are asked for one after the other.
    if (last_ != nullptr && last_index_ == index) return *last_;
    const auto found = tables_.find(index);
    if (found != tables_.end()) return keep(index, found->second);
    if (bytes_ >= most_cached) clear();
    return put(index, read());
  }

  Buffer& put(std::uint64_t index, Buffer content) {
    erase(index);
    bytes_ += content.size();
    return keep(index, tables_[index] = std::move(content));
  }

  void erase(std::uint64_t index) {
    const auto found = tables_.find(index);
    if (found == tables_.end()) return;
    bytes_ -= found->second.size();
    last_ = nullptr;
    tables_.erase(found);
  }

  void clear() {
    tables_.clear();
    bytes_ = 0;
    last_ = nullptr;
  }

 private:
  Buffer& keep(std::uint64_t index, Buffer& content) {
    last_index_ = index;
    last_ = &content;
    return content;
  }

  std::map<std::uint64_t, Buffer> tables_;
  std::uint64_t bytes_ = 0;
  std::uint64_t last_index_ = 0;
  Buffer* last_ = nullptr;
};

}  // namespace jh::qcow2

// Who is told what an audit of one file finds.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

namespace jh::xfs {

/// Told what is wrong with the inode, and by what place of the log each of its blocks was written.
struct Observer {
  std::function<void(const std::string&)> say;
  std::function<void(std::uint64_t)> written;
};

}  // namespace jh::xfs

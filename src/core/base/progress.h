// How long work is told about, and how it is told to stop.
#pragma once

#include <cstdint>
#include <string>

namespace jh {

/// The core reports here; what is shown, and whether anything is, is the interface's business.
class Progress {
 public:
  virtual ~Progress() = default;
  /// A piece of work of `total` bytes (0: unknown) begins.
  virtual void begin(const std::string& what, std::uint64_t total) = 0;
  /// `done` bytes of it are behind us. Throws an Error (refused) when the user asked to stop.
  virtual void advance(std::uint64_t done) = 0;
  virtual void end() = 0;
};

/// Says nothing and never stops.
class NullProgress final : public Progress {
 public:
  void begin(const std::string&, std::uint64_t) override {}
  void advance(std::uint64_t) override {}
  void end() override {}
};

}  // namespace jh

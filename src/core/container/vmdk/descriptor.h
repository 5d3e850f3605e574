// The descriptor of a VMDK disk: text, kept line for line but for what changes.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace jh::vmdk {

struct ExtentLine {
  std::string access;  // "RW"
  std::uint64_t sectors = 0;
  std::string kind;  // "SPARSE", "FLAT", "ZERO" ...
  std::string file;
  std::uint64_t offset = 0;  // sectors; for flat ones
  std::size_t line = 0;
};

class Descriptor {
 public:
  /// Throws damaged when an extent's line cannot be understood.
  explicit Descriptor(const std::string& text);

  /// Without quotes; empty: not there.
  std::string value(const std::string& key) const;
  std::optional<std::uint64_t> number(const std::string& key) const;
  const std::vector<ExtentLine>& extents() const { return extents_; }
  std::string text() const;

  /// Keeps quotes where there were any; adds no line.
  void set(const std::string& key, const std::string& value);
  void set_sectors(std::size_t extent, std::uint64_t sectors);
  void add_extent(const ExtentLine& extent);
  void remove_last_extent();

 private:
  void find_extents();

  std::vector<std::string> lines_;
  std::vector<ExtentLine> extents_;
};

}  // namespace jh::vmdk

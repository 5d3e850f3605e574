#include "core/container/vmdk/descriptor.h"

#include <fmt/format.h>

#include <charconv>
#include <sstream>

#include "core/base/errors.h"
#include "core/base/uuid.h"

namespace jh::vmdk {
namespace {

std::string trimmed(const std::string& text) {
  const std::size_t first = text.find_first_not_of(" \t\r");
  if (first == std::string::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t\r") - first + 1);
}

std::optional<std::uint64_t> number_in(const std::string& text) {
  std::uint64_t value = 0;
  const auto end = std::from_chars(text.data(), text.data() + text.size(), value);
  if (end.ec != std::errc() || end.ptr != text.data() + text.size()) return std::nullopt;
  return value;
}

std::string write_extent(const ExtentLine& extent) {
  std::string line = fmt::format("{} {} {}", extent.access, extent.sectors, extent.kind);
  if (!extent.file.empty()) line += fmt::format(" \"{}\"", extent.file);
  if (extent.kind == "FLAT" || extent.kind == "VMFS") line += fmt::format(" {}", extent.offset);
  return line;
}

}  // namespace

Descriptor::Descriptor(const std::string& text) {
  std::istringstream in(text.substr(0, text.find('\0')));
  for (std::string line; std::getline(in, line);) lines_.push_back(line);
  find_extents();
}

void Descriptor::find_extents() {
  extents_.clear();
  for (std::size_t i = 0; i < lines_.size(); ++i) {
    std::istringstream in(lines_[i]);
    ExtentLine extent;
    std::string sectors;
    in >> extent.access >> sectors >> extent.kind;
    if (extent.access != "RW" && extent.access != "RDONLY" && extent.access != "NOACCESS") continue;
    const auto count = number_in(sectors);
    if (!count || *count > UINT64_MAX / 2048 || extent.kind.empty())
      damaged("a line of the descriptor cannot be understood: " + lines_[i]);
    extent.sectors = *count;
    extent.line = i;
    std::string rest;
    std::getline(in, rest);
    if (const std::size_t open = rest.find('"'); open != std::string::npos) {
      const std::size_t close = rest.find('"', open + 1);
      if (close == std::string::npos)
        damaged("a line of the descriptor cannot be understood: " + lines_[i]);
      extent.file = rest.substr(open + 1, close - open - 1);
      rest = trimmed(rest.substr(close + 1));
      if (!rest.empty()) extent.offset = number_in(rest).value_or(0);
    }
    if (extent.offset > UINT64_MAX / 2048 || extents_.size() > 65536)
      damaged("a line of the descriptor cannot be understood: " + lines_[i]);
    extents_.push_back(std::move(extent));
  }
}

std::string Descriptor::value(const std::string& key) const {
  for (const std::string& line : lines_) {
    const std::size_t equals = line.find('=');
    if (equals == std::string::npos || fold_case(trimmed(line.substr(0, equals))) != fold_case(key))
      continue;
    std::string value = trimmed(line.substr(equals + 1));
    if (value.size() >= 2 && value.front() == '"' && value.back() == '"')
      value = value.substr(1, value.size() - 2);
    return value;
  }
  return {};
}

std::optional<std::uint64_t> Descriptor::number(const std::string& key) const {
  return number_in(value(key));
}

std::string Descriptor::text() const {
  std::string text;
  for (const std::string& line : lines_) text += line + "\n";
  return text;
}

void Descriptor::set(const std::string& key, const std::string& value) {
  for (std::string& line : lines_) {
    const std::size_t equals = line.find('=');
    if (equals == std::string::npos || fold_case(trimmed(line.substr(0, equals))) != fold_case(key))
      continue;
    const bool quoted = line.find('"', equals) != std::string::npos;
    const std::size_t start = line.find_first_not_of(" \t", equals + 1);
    const std::string end = line.ends_with('\r') ? "\r" : "";
    line = line.substr(0, start == std::string::npos ? equals + 1 : start) +
           (quoted ? "\"" + value + "\"" : value) + end;
    return;
  }
}

void Descriptor::set_sectors(std::size_t extent, std::uint64_t sectors) {
  ExtentLine& known = extents_[extent];
  std::string& line = lines_[known.line];
  const std::string old = std::to_string(known.sectors);
  line.replace(line.find(old, known.access.size()), old.size(), std::to_string(sectors));
  known.sectors = sectors;
}

void Descriptor::add_extent(const ExtentLine& extent) {
  ensure(!extents_.empty(), "a disk has an extent");
  lines_.insert(lines_.begin() + static_cast<std::ptrdiff_t>(extents_.back().line + 1),
                write_extent(extent));
  find_extents();
}

void Descriptor::remove_last_extent() {
  ensure(extents_.size() > 1, "a disk has an extent");
  lines_.erase(lines_.begin() + static_cast<std::ptrdiff_t>(extents_.back().line));
  find_extents();
}

}  // namespace jh::vmdk

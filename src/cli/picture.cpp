#include "cli/picture.h"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

#include "cli/terminal.h"

namespace jh::cli {
namespace {

struct BarCell {
  std::uint64_t size = 0;
  std::uint64_t used = 0;  // shown filled
  std::string name;
  bool gap = false;
  std::size_t width = 0;  // columns, without its left rule
};

std::vector<BarCell> pieces_of(const Guest& guest, const Disk& disk) {
  std::vector<std::pair<std::uint64_t, BarCell>> found;
  for (const Layer& layer : disk.layers) {
    if (layer.content.kind == ContentKind::logical_partitions) continue;
    BarCell piece{layer.size.value(), layer.size.value(), printable(guest.best_name(layer)), false,
                  0};
    if (layer.content.used) piece.used = layer.content.used->value();
    found.emplace_back(layer.offset.value(), piece);
  }
  if (disk.table) {
    const std::uint64_t sector = disk.table->facts().sector_size;
    for (const Gap& gap : disk.table->gaps())
      if (gap.count.value() * sector >= (2U << 20))
        found.emplace_back(gap.first.value() * sector,
                           BarCell{gap.count.value() * sector, 0, "room", true, 0});
  }
  std::sort(found.begin(), found.end(),
            [](const auto& a, const auto& b) { return a.first < b.first; });
  std::vector<BarCell> pieces;
  for (auto& [offset, piece] : found) pieces.push_back(std::move(piece));
  return pieces;
}

// To scale, but none narrower than its name (up to a limit), and all of `width` used up.
void share_width(std::vector<BarCell>& pieces, std::size_t width) {
  std::uint64_t total = 0;
  for (const BarCell& piece : pieces) total += piece.size;
  std::size_t least_total = 0;
  for (BarCell& piece : pieces) {
    piece.width = std::min<std::size_t>(columns_of(piece.name) + 2, 14);
    least_total += piece.width;
  }
  if (total == 0 || least_total >= width) return;
  const std::size_t spare = width - least_total;
  std::size_t given = 0;
  for (BarCell& piece : pieces) {
    const auto share = static_cast<std::size_t>(
        static_cast<double>(spare) * static_cast<double>(piece.size) / static_cast<double>(total));
    piece.width += share;
    given += share;
  }
  auto largest =
      std::max_element(pieces.begin(), pieces.end(),
                       [](const BarCell& a, const BarCell& b) { return a.size < b.size; });
  largest->width += spare - given;
}

std::string repeat(const std::string& text, std::size_t count) {
  std::string out;
  for (std::size_t i = 0; i < count; ++i) out += text;
  return out;
}

}  // namespace

std::string disk_picture(const Guest& guest, const Disk& disk, std::size_t width) {
  std::vector<BarCell> pieces = pieces_of(guest, disk);
  if (pieces.empty()) return {};
  share_width(pieces, width - 3 - pieces.size());
  std::string names = "  ";
  std::string bars = "  ";
  for (const BarCell& piece : pieces) {
    std::string name = piece.name;
    if (columns_of(name) + 1 > piece.width) name = name.substr(0, piece.width - 1);
    names += " " + styled(name, piece.gap ? Style::good : Style::heading) +
             std::string(piece.width - columns_of(name), ' ');
    const auto filled =
        piece.gap ? 0
                  : std::min<std::size_t>(
                        piece.width, static_cast<std::size_t>(static_cast<double>(piece.width) *
                                                                  static_cast<double>(piece.used) /
                                                                  static_cast<double>(piece.size) +
                                                              0.999));
    bars += "│" + repeat("▓", filled) +
            styled(repeat(piece.gap ? "·" : "░", piece.width - filled),
                   piece.gap ? Style::good : Style::dim);
  }
  names.erase(names.find_last_not_of(' ') + 1);
  return names + "\n" + bars + "│\n";
}

}  // namespace jh::cli

#include "core/figure/palette.h"

#include <algorithm>
#include <cmath>
#include <cstdint>

namespace jh {
namespace {

constexpr Color rgb(std::uint32_t hex) {
  return {static_cast<double>(hex >> 16 & 0xFF) / 255.0,
          static_cast<double>(hex >> 8 & 0xFF) / 255.0, static_cast<double>(hex & 0xFF) / 255.0};
}

// Heather in flower, dry grass, peat water, stone.
Paint light(Fill fill) {
  switch (fill) {
    case Fill::files:
      return {rgb(0xB08CC4), Pattern::plain};
    case Fill::idle:
      return {rgb(0xF3ECF6), Pattern::plain};
    case Fill::swap:
      return {rgb(0xEBCB8B), Pattern::level};
    case Fill::device:
      return {rgb(0xBBD5DF), Pattern::upright};
    case Fill::encrypted:
      return {rgb(0xD9A79C), Pattern::crossed};
    case Fill::unknown:
      return {rgb(0xC9C6BF), Pattern::dotted};
    case Fill::room:
      return {rgb(0xFFFFFF), Pattern::slanted};
    case Fill::kept:
      return {rgb(0xF0D9A0), Pattern::slanted};
    case Fill::gone:
      return {rgb(0xDDE8CF), Pattern::dotted};
    case Fill::tables:
      return {rgb(0x6E7A80), Pattern::plain};
    case Fill::disk:
      return {rgb(0xE6E2D8), Pattern::plain};
    case Fill::empty:
    case Fill::hole:
    case Fill::none:
      break;
  }
  return {rgb(0xFFFFFF), Pattern::plain};
}

Paint dark(Fill fill) {
  switch (fill) {
    case Fill::files:
      return {rgb(0x75548C), Pattern::plain};
    case Fill::idle:
      return {rgb(0x332B3B), Pattern::plain};
    case Fill::swap:
      return {rgb(0x6B5523), Pattern::level};
    case Fill::device:
      return {rgb(0x2D505F), Pattern::upright};
    case Fill::encrypted:
      return {rgb(0x6E3B31), Pattern::crossed};
    case Fill::unknown:
      return {rgb(0x4C4A46), Pattern::dotted};
    case Fill::room:
      return {rgb(0x1A1C20), Pattern::slanted};
    case Fill::kept:
      return {rgb(0x6B5523), Pattern::slanted};
    case Fill::gone:
      return {rgb(0x33412A), Pattern::dotted};
    case Fill::tables:
      return {rgb(0xB4BEC4), Pattern::plain};
    case Fill::disk:
      return {rgb(0x36383D), Pattern::plain};
    case Fill::empty:
    case Fill::hole:
    case Fill::none:
      break;
  }
  return {rgb(0x22252A), Pattern::plain};
}

}  // namespace

const Palette& light_palette() {
  static const Palette palette{rgb(0xFBFAF7), rgb(0x24262B), rgb(0x5D5F66), rgb(0x6B6A72), light};
  return palette;
}

const Palette& dark_palette() {
  static const Palette palette{rgb(0x17191D), rgb(0xEDEBE6), rgb(0xA9A9AE), rgb(0x8F8D97), dark};
  return palette;
}

double luminance(const Color& color) {
  const auto linear = [](double part) {
    return part <= 0.03928 ? part / 12.92 : std::pow((part + 0.055) / 1.055, 2.4);
  };
  return 0.2126 * linear(color.red) + 0.7152 * linear(color.green) + 0.0722 * linear(color.blue);
}

double contrast(const Color& a, const Color& b) {
  const double first = luminance(a) + 0.05;
  const double second = luminance(b) + 0.05;
  return std::max(first, second) / std::min(first, second);
}

}  // namespace jh

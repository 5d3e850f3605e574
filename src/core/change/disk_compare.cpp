#include "core/change/disk_compare.h"

#include <algorithm>
#include <cstring>

namespace jh {
namespace {

Ranges changed_in(Stage& stage) {
  Ranges ranges;
  constexpr std::size_t unit = 512;
  stage.for_each_change([&](std::uint64_t at, ConstByteSpan old, ConstByteSpan fresh) {
    for (std::size_t i = 0; i < fresh.size(); i += unit) {
      const std::size_t length = std::min(unit, fresh.size() - i);
      if (std::memcmp(old.data() + i, fresh.data() + i, length) != 0)
        add_range(ranges, at + i, at + i + length);
    }
  });
  stage.for_each_direct(
      [&](std::uint64_t at, std::uint64_t length) { add_range(ranges, at, at + length); });
  return ranges;
}

}  // namespace

FileChanges changed_files(FileSet& files) {
  FileChanges changes;
  for (Stage* stage : files.stages()) changes[stage->name()] = changed_in(*stage);
  return changes;
}

void for_each_difference(Container& before, Container& after, const FileChanges& changes,
                         const std::function<void(std::uint64_t, std::uint64_t)>& visit) {
  constexpr std::uint64_t most = 1U << 20;
  constexpr std::uint64_t sector = 512;
  Buffer old;
  Buffer fresh;
  const std::uint64_t size = std::min(before.disk().size(), after.disk().size());
  for (std::uint64_t at = 0; at < size;) {
    const Piece was = before.piece_at(at, size - at);
    const Piece now = after.piece_at(at, was.length);
    std::uint64_t length = now.length;
    const bool same_place = was.kind == Piece::Kind::data && now.kind == was.kind &&
                            now.at == was.at && now.store->name() == was.store->name();
    if (same_place) {
      const auto found = changes.find(now.store->name());
      if (found != changes.end())
        for_each_inside(
            found->second, now.at, now.at + length,
            [&](std::uint64_t from, std::uint64_t to) { visit(at + (from - now.at), to - from); });
    } else if (was.kind != Piece::Kind::zero || now.kind != Piece::Kind::zero) {
      length = std::min(length, most);
      old.resize(length);
      fresh.resize(length);
      before.disk().read(at, old);
      after.disk().read(at, fresh);
      for (std::uint64_t i = 0; i < length; i += sector) {
        const std::uint64_t step = std::min(sector, length - i);
        if (std::memcmp(&old[i], &fresh[i], step) != 0) visit(at + i, step);
      }
    }
    at += length;
  }
}

}  // namespace jh

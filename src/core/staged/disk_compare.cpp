#include "core/staged/disk_compare.h"

#include <algorithm>
#include <cstring>

namespace jh {
FileChanges changed_files(FileSet& files) {
  FileChanges changes;
  for (Stage* stage : files.stages()) changes[stage->name()] = stage->changed_sectors();
  return changes;
}

namespace {

bool overlaps_change(const FileChanges& changes, const std::string& file, std::uint64_t from,
                     std::uint64_t to) {
  const auto found = changes.find(file);
  return found != changes.end() && overlaps(found->second, from, to);
}

// The pieces of a disk, one behind the other, taken off in front as far as they were dealt with.
// A piece may be long and its search takes as long: it is found once.
class ExtentCursor {
 public:
  explicit ExtentCursor(ImageReader& container) : container_(container) {}
  const Extent& at(std::uint64_t offset, std::uint64_t length) {
    if (piece_.length == 0 || offset != at_) piece_ = container_.extent_at(offset, length);
    at_ = offset;
    return piece_;
  }
  void pass(std::uint64_t length) {
    at_ += length;
    piece_.length -= length;
    if (piece_.kind == Extent::Kind::data) piece_.at += length;
  }

 private:
  ImageReader& container_;
  std::uint64_t at_ = 0;
  Extent piece_;
};

}  // namespace

void for_each_difference(ImageReader& before, ImageReader& after, const FileChanges& changes,
                         ContentCheck& contents, const DifferenceVisitor& visitor) {
  constexpr std::uint64_t sector = 512;
  ExtentCursor old_pieces(before);
  ExtentCursor new_pieces(after);
  const std::uint64_t size = std::min(before.disk().size(), after.disk().size());
  for (std::uint64_t at = 0; at < size;) {
    const Extent& was = old_pieces.at(at, size - at);
    const Extent& now = new_pieces.at(at, size - at);
    std::uint64_t length = std::min(was.length, now.length);
    const bool same_place = was.store != nullptr && now.store != nullptr && now.kind == was.kind &&
                            now.at == was.at && now.store->name() == was.store->name();
    if (same_place && was.kind == Extent::Kind::compressed &&
        !overlaps_change(changes, now.store->name(), now.at, now.at + length)) {
      // Compressed bytes are fewer than those they stand for.
    } else if (same_place && was.kind == Extent::Kind::data) {
      const auto found = changes.find(now.store->name());
      if (found != changes.end())
        for_each_inside(found->second, now.at, now.at + length,
                        [&](std::uint64_t from, std::uint64_t to) {
                          visitor.differs(at + (from - now.at), to - from);
                        });
    } else if (const std::uint64_t same =
                   contents.same_blocks(before.disk(), at, after.disk(), at, length);
               same != 0) {
      length = same;
    } else if (was.kind != Extent::Kind::zero || now.kind != Extent::Kind::zero) {
      length = std::min(length, ContentCheck::extent);
      const std::uint64_t passed = visitor.indifferent ? visitor.indifferent(at, length) : 0;
      if (passed != 0)
        length = passed;
      else if (!contents.same_piece(before.disk(), at, after.disk(), at, length))
        for (std::uint64_t i = 0; i < length; i += sector) {
          const std::uint64_t step = std::min(sector, length - i);
          if (std::memcmp(&contents.old_bytes()[i], &contents.new_bytes()[i], step) != 0)
            visitor.differs(at + i, step);
        }
    }
    old_pieces.pass(length);
    new_pieces.pass(length);
    at += length;
  }
}

}  // namespace jh

#include "core/container/raw/raw.h"

#include <fmt/format.h>

namespace jh {

RawContainer::RawContainer(Store& file) : file_(file) {
  if (file.size() < sector)
    refuse(fmt::format("the file is only {} bytes long", file.size()), file.name(),
           "a disk image has at least one sector of 512 bytes; check the path");
  if (file.size() % sector != 0)
    trimmed_ = std::make_unique<WindowStore>(file, 0, round_down(file.size(), sector), file.name());
}

ContainerFacts RawContainer::facts() {
  ContainerFacts facts;
  facts.file_length = Bytes(file_.size());
  facts.disk_size = Bytes(round_down(file_.size(), sector));
  if (trimmed_)
    facts.notes.push_back(fmt::format(
        "the file is {} bytes longer than its last whole sector; the guest does not see those",
        file_.size() % sector));
  return facts;
}

void RawContainer::check_growth(Bytes new_size) {
  if (file_.has_fixed_size() && new_size > Bytes(file_.size()))
    refuse("a block device cannot be made larger from here", file_.name(),
           "make it larger where it is made; then run grow without --to and --by");
  if (new_size.value() > static_cast<std::uint64_t>(INT64_MAX))
    refuse("no file can be that large", file_.name(), "ask for less than 8 EiB");
}

void RawContainer::check_shrink(Bytes) {}

void RawContainer::shrink(Bytes new_size) {
  ensure(new_size.value() % sector == 0 && new_size.value() <= file_.size(),
         "a raw disk shrinks to whole sectors");
  file_.resize(new_size.value());
  trimmed_.reset();
}

void RawContainer::grow(Bytes new_size) {
  ensure(new_size.value() % sector == 0 && new_size.value() >= file_.size(),
         "a raw disk grows by whole sectors");
  file_.resize(new_size.value());
  trimmed_.reset();
}

}  // namespace jh

#include "core/container/states.h"

namespace jh {

std::vector<DiskState> states_of(ImageReader& image, const std::string& path) {
  std::vector<DiskState> states;
  const ContainerFacts facts = image.facts();
  if (ImageReader* parent = image.parent(); parent != nullptr) {
    states = states_of(*parent, parent->disk().name());
    for (DiskState& state : states)
      if (state.kind == DiskState::Kind::active) state.kind = DiskState::Kind::parent;
  }
  const auto level = static_cast<unsigned>(facts.parents.size());
  DiskState own;
  own.level = level;
  own.name = path;
  own.disk_size = facts.disk_size;
  own.alone = facts.file_length.value();
  states.push_back(own);
  const std::vector<std::uint64_t> kept = image.kept_by_snapshots();
  for (std::size_t i = 0; i < facts.snapshots.size(); ++i) {
    const Snapshot& snapshot = facts.snapshots[i];
    DiskState state;
    state.kind = DiskState::Kind::snapshot;
    state.level = level + 1;
    state.name = snapshot.name;
    state.id = snapshot.id;
    state.made_at = snapshot.made_at;
    state.disk_size = snapshot.disk_size.value_or(facts.disk_size);
    state.memory = snapshot.state_size;
    if (i < kept.size()) state.alone = kept[i];
    states.push_back(state);
  }
  return states;
}

}  // namespace jh

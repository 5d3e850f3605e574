#include "core/change/compact_into.h"

#include "core/change/recast.h"
#include "core/compact/used_only.h"

namespace jh {
namespace {

bool has_packed(Container& container) {
  const std::uint64_t size = container.disk().size();
  for (std::uint64_t at = 0; at < size;) {
    const Piece piece = container.piece_at(at, size - at);
    if (piece.kind == Piece::Kind::packed) return true;
    at += piece.length;
  }
  return false;
}

}  // namespace

CompactFigures compact_into(Host& host, const Guest& guest, std::size_t index,
                            const std::string& out, std::optional<Form> form, Progress& progress) {
  const Disk& disk = guest.disks()[index];
  failing_leaves(Left::unchanged, [&] {
    check_awake(guest);
    check_claims(guest, index);
  });
  const ContainerFacts facts = disk.container->facts();
  const Unused unused = find_unused(guest, index);
  UsedOnly used(*disk.container, unused);
  RecastRequest request;
  request.image = disk.path;
  request.out = out;
  request.form = form.value_or(form_by_ending(out).value_or(facts.form));
  const bool can_be_packed = request.form == Form::qcow2 || request.form == Form::vmdk;
  const bool packed = can_be_packed && has_packed(*disk.container);
  request.keeping = packed ? Keeping::packed : Keeping::sparse;
  request.in_pieces = request.form == Form::vmdk && facts.form == Form::vmdk &&
                      facts.keeping != Keeping::packed && !facts.variant.empty();
  const RecastPlan plan = plan_recast(host, used, request);
  carry_out_recast(host, used, plan, request, progress);
  CompactFigures figures;
  figures.length_before = facts.file_length.value();
  figures.files = {out};
  figures.files.insert(figures.files.end(), plan.parts.begin(), plan.parts.end());
  for (const std::string& path : figures.files)
    figures.length_after += host.open(path, Access::read_only)->size();
  figures.notes = unused.kept;
  if (packed) figures.notes.emplace_back("the new image is packed, since parts of this one are");
  for (const std::string& note : plan.notes) figures.notes.push_back(note);
  return figures;
}

}  // namespace jh

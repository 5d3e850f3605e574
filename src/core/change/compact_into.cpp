#include "core/change/compact_into.h"

#include "core/change/recast.h"
#include "core/compact/used_only.h"

namespace jh {
namespace {

bool has_compressed(Container& container) {
  const std::uint64_t size = container.disk().size();
  for (std::uint64_t at = 0; at < size;) {
    const Extent piece = container.extent_at(at, size - at);
    if (piece.kind == Extent::Kind::compressed) return true;
    at += piece.length;
  }
  return false;
}

}  // namespace

CompactFigures compact_into(Host& host, const Guest& guest, std::size_t index,
                            const std::string& out, std::optional<ImageFormat> format,
                            Sharing sharing, Progress& progress) {
  const Disk& disk = guest.disks()[index];
  failing_with(Outcome::unchanged, [&] {
    check_awake(guest);
    check_claims(guest, index);
  });
  const ContainerFacts facts = disk.container->facts();
  const Unused unused = find_unused(guest, index);
  UsedOnly used(*disk.container, unused);
  RecastRequest request;
  request.image = disk.path;
  request.out = out;
  request.sharing = sharing;
  request.format = format.value_or(format_by_extension(out).value_or(facts.format));
  const bool can_be_compressed =
      request.format == ImageFormat::qcow2 || request.format == ImageFormat::vmdk;
  const bool compressed = can_be_compressed && has_compressed(*disk.container);
  request.allocation = compressed ? Allocation::compressed : Allocation::sparse;
  request.in_pieces = request.format == ImageFormat::vmdk && facts.format == ImageFormat::vmdk &&
                      facts.allocation != Allocation::compressed && !facts.variant.empty();
  const RecastPlan plan = plan_recast(host, used, request);
  CompactFigures figures;
  figures.content = carry_out_recast(host, used, plan, request, progress);
  figures.length_before = facts.file_length.value();
  figures.files = {out};
  figures.files.insert(figures.files.end(), plan.parts.begin(), plan.parts.end());
  for (const std::string& path : figures.files)
    figures.length_after += host.open(path, Access::read_only)->size();
  figures.notes = unused.kept;
  if (compressed)
    figures.notes.emplace_back("the new image is packed, since parts of this one are");
  for (const std::string& note : plan.notes) figures.notes.push_back(note);
  return figures;
}

}  // namespace jh

#include "cli/session.h"

namespace jh::cli {

Session open_session(const Parsed& parsed, const std::vector<std::string>& images,
                     const std::vector<std::pair<std::string, Bytes>>& added,
                     const std::vector<CopyPlan>& copies) {
  return open_guest({images, parsed.common.ledger_folder, reach_of(parsed, images),
                     parsed.common.sector_size, added, copies});
}

std::uint64_t allocated_on_host(const std::vector<std::string>& files) {
  FileHost host;
  std::uint64_t sum = 0;
  for (const std::string& file : files) sum += host.allocated(file);
  return sum;
}

Allocation allocation_on_host(const ContainerFacts& facts, std::uint64_t allocated) {
  if (facts.format != ImageFormat::raw) return facts.allocation;
  return allocated + 4096 < facts.file_length.value() ? Allocation::sparse : Allocation::full;
}

}  // namespace jh::cli

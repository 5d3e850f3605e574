// Looks at a guest's disk, and grows it by a gibibyte: what the program does, through the library.
// more_room IMAGE [TARGET]
#include <iostream>

#include "core/base/version.h"
#include "core/carry/checks.h"
#include "core/change/carry_out.h"
#include "core/container/file_resolver.h"
#include "core/plan/grow.h"
#include "core/report/report.h"

namespace {

void show(const jh::Guest& guest) {
  for (const jh::LayerSize& layer : jh::layer_sizes(guest)) {
    std::cout << "  " << layer.name << " " << layer.detail << ": " << jh::human(layer.size);
    if (layer.free) std::cout << ", " << jh::human(*layer.free) << " free";
    std::cout << "\n";
  }
}

void grow(const std::string& image, const std::string& target) {
  jh::FileHost host;
  jh::check_not_in_use(image);
  const jh::ImageLock lock(image);  // nobody else, from the first look to the seal
  jh::FileStore file(image, jh::Access::read_only);
  jh::HostFileResolver resolver(host);
  const jh::Guest guest({{image, &file, false, &resolver}});
  show(guest);

  jh::GrowRequest request;
  request.images = {image};
  request.by = jh::Bytes(1ULL << 30);
  if (!target.empty()) request.gives.push_back(jh::parse_give(target));
  const jh::Plan plan = jh::plan_growth(guest, request);  // throws what stands in the way
  for (const jh::Step& step : plan.steps) std::cout << step.name << ": " << step.action << "\n";

  jh::NullProgress progress;
  const jh::ChangeResult result = jh::carry_out(host, guest, plan, request, progress);
  for (const jh::Evidence& seen : result.evidence.all())
    std::cout << "proven: " << seen.what << ", " << jh::count_text(seen) << "\n";
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 2) {
    std::cerr << "usage: more_room IMAGE [TARGET]\n";
    return static_cast<int>(jh::Status::usage);
  }
  std::cout << "juneheath " << jh::core_version() << "\n";
  try {
    grow(argv[1], argc > 2 ? argv[2] : "");
    const jh::FileStore now(argv[1], jh::Access::read_only);
    std::cout << "done: " << jh::human(jh::Bytes(now.size())) << "\n";
    return 0;
  } catch (const jh::Error& error) {
    std::cerr << error.what() << "\n" << error.where() << "\n" << error.next() << "\n";
    return static_cast<int>(error.status());
  }
}

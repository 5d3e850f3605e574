// Looks at a guest's disk, grows it by a gibibyte, and leaves a report: what the program does,
// through the library.
// more_room IMAGE [TARGET [REPORT]]
#include <juneheath/juneheath.h>

#include <iostream>

namespace {

void show(const juneheath::Guest& guest) {
  for (const juneheath::Layer& layer : guest.layers()) {
    std::cout << "  " << layer.name << " " << layer.detail << ": " << layer.size << " bytes";
    if (layer.free) std::cout << ", " << *layer.free << " free";
    std::cout << "\n";
  }
}

// Percent of the longer pieces of work.
class Percent : public juneheath::Observer {
 public:
  void begin(const std::string& what, std::uint64_t total) override {
    what_ = what;
    total_ = total;
  }
  bool advance(std::uint64_t done) override {
    if (total_ > 100U << 20) std::cerr << what_ << " " << done * 100 / total_ << "%\r";
    return true;  // false would stop the work, with nothing changed
  }

 private:
  std::string what_;
  std::uint64_t total_ = 0;
};

void grow(const std::string& image, const std::string& target, const std::string& report) {
  juneheath::OpenOptions options;
  options.purpose = juneheath::Purpose::change;  // nobody else, from the first look to the seal
  const juneheath::Guest guest({image}, options);
  show(guest);

  juneheath::Growth growth;
  growth.by = 1ULL << 30;
  if (!target.empty()) growth.give.push_back(target);
  const juneheath::Plan plan(guest, growth);  // throws what stands in the way
  for (const juneheath::Step& step : plan.steps())
    std::cout << step.layer << ": " << step.action << "\n";

  Percent percent;
  juneheath::ChangeOptions how;
  how.observer = &percent;
  const juneheath::Change change = carry_out(guest, plan, how);
  for (const juneheath::Evidence& seen : change.evidence)
    std::cout << "proven: " << seen.what << ", " << seen.count << " " << seen.unit << "\n";

  const juneheath::Guest now({image});
  show(now);
  if (report.empty()) return;
  juneheath::Story story;
  story.before = &guest;
  story.plan = &plan;
  story.change = &change;
  story.after = &now;
  write_report(story, report);
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 2) {
    std::cerr << "usage: more_room IMAGE [TARGET [REPORT]]\n";
    return static_cast<int>(juneheath::Status::usage);
  }
  std::cout << "juneheath " << juneheath::version() << "\n";
  try {
    grow(argv[1], argc > 2 ? argv[2] : "", argc > 3 ? argv[3] : "");
    std::cout << "done; to take it back: juneheath undo " << argv[1] << "\n";
    return 0;
  } catch (const juneheath::Error& error) {
    std::cerr << error.what() << "\n" << error.where() << "\n" << error.next() << "\n";
    return static_cast<int>(error.status());
  }
}

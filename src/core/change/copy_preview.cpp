#include "core/change/copy_preview.h"

#include "core/store/memory_store.h"
#include "core/store/scratch_store.h"

namespace jh {
namespace {

// The further files of an empty image.
class PartsInMemory final : public FileResolver {
 public:
  Store* part(const std::string& path) override {
    auto& store = parts_[path];
    if (!store) store = std::make_unique<MemoryStore>(0, path);
    return store.get();
  }
  Store* parent(const std::string&) override { return nullptr; }
  std::vector<std::string> siblings(const std::string&) override { return {}; }

 private:
  std::map<std::string, std::unique_ptr<Store>> parts_;
};

// What the form can do is asked of an empty image of it.
class CopyPreview final : public Container {
 public:
  CopyPreview(std::unique_ptr<Container> original, const CopyPlan& plan)
      : original_(std::move(original)),
        file_(0, plan.request.out),
        form_(new_image(plan)),
        shown_(original_->disk(), form_->disk().size()) {}

  ContainerFacts facts() override {
    ContainerFacts facts = form_->facts();
    facts.blocks = std::max(facts.blocks, original_->facts().blocks);
    return facts;
  }
  Store& disk() override { return shown_; }
  Extent extent_at(std::uint64_t offset, std::uint64_t length) override {
    const std::uint64_t end = original_->disk().size();
    if (offset >= end) return {Extent::Kind::zero, length, nullptr, 0};
    return original_->extent_at(offset, std::min(length, end - offset));
  }
  std::uint64_t blocks_kept() override { return original_->blocks_kept(); }
  void audit(Findings& findings) override { original_->audit(findings); }
  Bytes size_unit() override { return form_->size_unit(); }
  void check_growth(Bytes size) override { form_->check_growth(size); }
  std::vector<std::string> new_parts(Bytes size) override { return form_->new_parts(size); }
  std::vector<std::string> parts_let_go(Bytes size) override { return form_->parts_let_go(size); }
  void check_shrink(Bytes size) override { form_->check_shrink(size); }
  void grow(Bytes) override { ensure(false, "a preview is only planned with"); }
  void shrink(Bytes) override { ensure(false, "a preview is only planned with"); }

 private:
  std::unique_ptr<Container> new_image(const CopyPlan& plan) {
    NewContainer wanted = plan.recast.to;
    if (plan.as_it_is) {
      wanted.format = *plan.request.format;
      wanted.disk_size = original_->facts().disk_size;
    }
    create_container(file_, wanted, &parts_);
    return open_container(file_, &parts_);
  }

  std::unique_ptr<Container> original_;
  MemoryStore file_;
  PartsInMemory parts_;
  std::unique_ptr<Container> form_;
  ScratchStore shown_;
};

}  // namespace

std::unique_ptr<Container> preview_of_copy(std::unique_ptr<Container> original,
                                           const CopyPlan& plan) {
  // The same bytes in the same form; only a device has a size of its own.
  if (plan.as_it_is && !original->disk().has_fixed_size()) return original;
  return std::make_unique<CopyPreview>(std::move(original), plan);
}

}  // namespace jh

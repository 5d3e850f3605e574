#include "core/container/chain.h"

#include <fmt/format.h>

#include <algorithm>

#include "core/base/shell_word.h"

namespace jh {

std::unique_ptr<Container> open_parent(Store& file, FileResolver* resolver,
                                       const std::vector<std::string>& names,
                                       std::vector<std::string> children) {
  constexpr std::size_t longest = 64;
  const std::string me = real_path(file.name());
  children.push_back(me);
  Store* found = nullptr;
  std::string path;
  for (const std::string& name : names) {
    path = path_beside(file.name(), name);
    if (resolver != nullptr) found = resolver->parent(path);
    if (found != nullptr) break;
  }
  if (found == nullptr)
    refuse("the image builds on another one, which is not there", path.empty() ? file.name() : path,
           "put it back where the image expects it, or name the image that is meant");
  if (std::find(children.begin(), children.end(), real_path(found->name())) != children.end())
    refuse("the image builds on itself, through the chain of its parents", found->name(),
           "its chain was put together wrongly; take the files from a backup");
  if (children.size() > longest)
    refuse(fmt::format("the image builds on more than {} others", longest), file.name(),
           "merge them in the hypervisor first");
  return open_in_chain(*found, resolver, std::move(children));
}

void describe_parents(ContainerFacts& facts, Container* parent, const std::string& path,
                      const std::string& image, ChildSize size) {
  if (parent == nullptr) return;
  facts.parents.push_back(path);
  for (const std::string& further : parent->facts().parents) facts.parents.push_back(further);
  if (size == ChildSize::its_own) return;
  facts.blockers.push_back(in_the_way("the image builds on " + facts.parents.front(), image,
                                      "merge the images in the hypervisor")
                               .with_reason(Reason::has_parent));
}

void Container::check_shrink(Bytes) {
  unsupported(
      fmt::format("this {} image cannot become smaller in place", format_name(facts().format)),
      disk().name(), "make the smaller disk a new image with --into");
}

void Container::shrink(Bytes new_size) { check_shrink(new_size); }

void Container::reveal_parent(std::uint64_t, std::uint64_t) {
  ensure(false, "an image that builds on another keeps its disk in blocks");
}

void Container::read_parent(std::uint64_t offset, ByteSpan out) {
  ImageReader* below = parent();
  const std::uint64_t end = below == nullptr ? 0 : below->disk().size();
  const auto there =
      static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), end - std::min(end, offset)));
  if (there != 0) below->disk().read(offset, out.first(there));
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(there), out.end(), std::uint8_t{0});
}

void Container::set_allocation(Allocation allocation) {
  const ContainerFacts now = facts();
  unsupported(
      fmt::format("a {} image that is {} cannot become {} in place", format_name(now.format),
                  allocation_name(now.allocation), allocation_name(allocation)),
      disk().name(),
      "write a new one: " +
          suggest("recast", {disk().name(), "NEW"}).with("store", allocation_name(allocation)));
}

Error in_the_way(const std::string& what, const std::string& path, const std::string& remedy) {
  return {Status::refused, what, path,
          remedy + ", or make a new image of what the guest sees:\n  " +
              suggest("recast", {path, "NEW"})};
}

}  // namespace jh

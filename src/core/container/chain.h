// Chains: images that build on others.
#pragma once

#include "core/container/container.h"

namespace jh {

/// Opens the image that `file` builds on: the first of these names, as written in it, that is
/// there. `children`: paths of the images that build on `file` already. Throws refused when there
/// is none, or the chain comes back to itself.
std::unique_ptr<Container> open_parent(Store& file, FileResolver* resolver,
                                       const std::vector<std::string>& names,
                                       std::vector<std::string> children);

/// Whether a form lets an image be larger or smaller than what it builds on.
enum class ChildSize { its_parents, its_own };

/// `path`: the parent's. Notes the chain below; of a form that asks for one size in all of it, that
/// it stands in the way of a change.
void describe_parents(ContainerFacts& facts, Container* parent, const std::string& path,
                      const std::string& image, ChildSize size = ChildSize::its_parents);

/// A reason against changing an image in place, with the ways out: `remedy`, or a new image.
Error in_the_way(const std::string& what, const std::string& path, const std::string& remedy);

/// open_container for an image that others build on.
std::unique_ptr<Container> open_in_chain(Store& file, FileResolver* resolver,
                                         std::vector<std::string> children);

}  // namespace jh

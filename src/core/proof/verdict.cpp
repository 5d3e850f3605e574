#include "core/proof/verdict.h"

#include "core/base/errors.h"

namespace jh {

void proof_failed(const std::string& what, const std::string& where) {
  damaged("the result did not pass its proof: " + what, where,
          "please report this, with what an audit of the image finds");
}

}  // namespace jh

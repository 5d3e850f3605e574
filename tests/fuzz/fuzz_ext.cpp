// ext: recognising, reading the tree, the audit, growing.
#include "core/fs/ext/audit.h"
#include "core/fs/ext/grow.h"
#include "core/fs/ext/read.h"
#include "core/guest/content.h"
#include "fuzz_base.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jh;
  MemoryStore image = fuzz::changed_image("ext", data, size);
  recognise_content(image);
  fuzz::expect_orderly([&] {
    ext::Filesystem fs(image);
    std::uint64_t names = 0;
    fuzz::expect_orderly([&] {
      ext::walk_tree(fs, [&](const std::string& path, const ext::InodeRecord& inode) {
        if (++names > 2000 || path.size() > 4000) refuse("enough");
        if (inode.type() == ext::mode_link) ext::read_link(fs, inode);
      });
    });
    fuzz::expect_orderly([&] { ext::read_text(fs, "/etc/fstab", 4096); });
    NullProgress silent;
    Findings findings;
    ext::audit(fs, {}, findings, silent);
    image.resize(image.size() * 3);
    const auto plan = ext::plan_grow(fs, image.size() / fs.geometry().block_size);
    if (plan.descriptor_overrun() != 0) return;
    ext::grow(fs, plan);
  });
  return 0;
}

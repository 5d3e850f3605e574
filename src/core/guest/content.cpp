#include "core/guest/content.h"

#include <fmt/format.h>

#include <string_view>

#include "core/base/uuid.h"
#include "core/lvm/device.h"

namespace jh {
namespace {

using namespace std::string_view_literals;

// Published places of the signatures and identities of filesystems we only name.
struct Known {
  std::uint64_t offset;
  std::string_view signature;
  ContentKind kind;
  const char* name;
  std::uint64_t uuid_at;   // 0: none
  std::uint64_t label_at;  // 0: none
  std::size_t label_length;
};

constexpr std::array known_content{
    Known{0, "XFSB"sv, ContentKind::xfs, "XFS", 32, 108, 12},
    Known{65600, "_BHRfS_M"sv, ContentKind::btrfs, "btrfs", 65568, 65835, 255},
    Known{3, "NTFS    "sv, ContentKind::ntfs, "NTFS", 0, 0, 0},
    Known{3, "EXFAT   "sv, ContentKind::unknown, "exFAT", 0, 0, 0},
    Known{82, "FAT32"sv, ContentKind::fat, "FAT32", 0, 71, 11},
    Known{54, "FAT1"sv, ContentKind::fat, "FAT", 0, 43, 11},
    Known{0, "LUKS\xba\xbe"sv, ContentKind::encrypted, "encrypted (LUKS)", 0, 0, 0},
};

std::string text_at(Store& place, std::uint64_t offset, std::size_t length) {
  if (offset + length > place.size()) return {};
  const Buffer raw = read_buffer(place, offset, length);
  std::string text;
  for (const std::uint8_t c : raw) {
    if (c == 0) break;
    text += c < 0x20 ? '?' : static_cast<char>(c);
  }
  while (text.ends_with(' ')) text.pop_back();
  return text;
}

void describe_known(Store& place, const Known& known, Content& content) {
  content.kind = known.kind;
  content.name = known.name;
  content.state = "not looked into";
  if (known.label_at != 0) content.label = text_at(place, known.label_at, known.label_length);
  if (known.uuid_at != 0 && known.uuid_at + 16 <= place.size())
    content.uuid = uuid_text(read_as<Uuid>(place, known.uuid_at));
  if (known.kind == ContentKind::fat) {
    // The serial number, as fstab writes it.
    const auto serial = read_as<Le32>(place, known.offset == 82 ? 67 : 39).value();
    content.uuid = fmt::format("{:04X}-{:04X}", serial >> 16, serial & 0xFFFF);
    if (content.label == "NO NAME") content.label.clear();
  }
}

// The name a guest would give it: what tells the generations apart is their features.
std::string ext_generation(const ext::Geometry& g) {
  if (g.has_incompat(ext::incompat::extents | ext::incompat::bit64 | ext::incompat::flex_bg) ||
      g.has_ro_compat(ext::ro_compat::huge_file | ext::ro_compat::metadata_csum))
    return "ext4";
  return g.has_compat(ext::compat::has_journal) ? "ext3" : "ext2";
}

void check_ext_state(Content& content) {
  const std::uint16_t state = content.ext->super().state.value();
  const auto block = [&](std::string word, const std::string& what, const std::string& next) {
    content.state = std::move(word);
    content.blockers.emplace_back(Status::refused, what, "ext superblock", next);
  };
  content.state = content.rest ? "needs journal replay" : "clean";
  if ((state & ext::state_errors) != 0)
    block("has errors", "the guest has marked the filesystem as having errors",
          "let the guest check it (at its next start, or from a rescue system), then run again");
  else if ((state & ext::state_clean) == 0)
    block("not cleanly unmounted",
          "the filesystem was not cleanly unmounted, and has no journal to put it right",
          "start the guest once and shut it down properly, then run again");
  if (!content.ext->geometry().has_incompat(ext::incompat::mmp)) return;
  const auto mmp =
      parse_as<ext::MmpBlock>(content.ext->read_block(content.ext->super().mmp_block.value()), 0);
  if (mmp.magic.value() == ext::mmp_magic && mmp.seq.value() == ext::mmp_clean) return;
  block("in use", "its multiple-mount protection says that the filesystem is in use",
        "shut down every host that may have it mounted; after a crash, let the guest check it");
}

// A filesystem that was not cleanly unmounted is looked at as it will be: its journal is replayed
// in memory. What stands in the way of that stands in the way of every change.
void settle_in_memory(Store& place, Content& content) {
  const auto super = read_as<ext::Superblock>(place, ext::superblock_offset);
  const bool has_errors = (super.state.value() & ext::state_errors) != 0;
  if (ext::is_at_rest(super) || has_errors) return;
  content.at_rest = std::make_unique<ScratchStore>(place);
  content.rest = ext::bring_to_rest(*content.at_rest);
}

Content open_ext(Store& place) {
  Content content;
  content.kind = ContentKind::ext;
  content.name = "ext";
  try {
    try {
      settle_in_memory(place, content);
    } catch (const Error& error) {
      content.at_rest.reset();
      content.blockers.push_back(error);
    }
    Store& seen = content.at_rest ? static_cast<Store&>(*content.at_rest) : place;
    content.ext = std::make_unique<ext::Filesystem>(seen);
    const ext::Geometry& g = content.ext->geometry();
    content.name = ext_generation(g);
    content.label = content.ext->label();
    content.uuid = uuid_text(content.ext->super().uuid);
    content.size = Bytes(checked_mul(g.blocks, g.block_size));
    const std::uint64_t free =
        std::min(g.blocks, checked_mul(content.ext->free_clusters(), g.cluster_ratio));
    content.used = Bytes((g.blocks - free) * g.block_size);
    check_ext_state(content);
    if (content.at_rest == nullptr && !ext::is_at_rest(content.ext->super()))
      content.state = "not cleanly unmounted";
  } catch (const Error& error) {
    content.state = error.status() == Status::unsupported ? "not supported" : "damaged";
    content.blockers.push_back(error);
  }
  return content;
}

std::optional<Content> open_swap(Store& place) {
  Content content;
  try {
    const auto facts = swap::read(place);
    if (!facts) return std::nullopt;
    content.kind = ContentKind::swap;
    content.name = "swap";
    content.state = "clean";
    content.size = Bytes(facts->size);
    content.uuid = facts->uuid;
    content.label = facts->label;
    content.swap = facts;
    if (facts->hibernated) {
      content.state = "holds a suspended system";
      content.blockers.emplace_back(Status::refused,
                                    "a suspended system's memory is in the swap area", "swap",
                                    "resume the guest and shut it down properly, then run again");
    }
  } catch (const Error& error) {
    content.kind = ContentKind::swap;
    content.name = "swap";
    content.state = "damaged";
    content.blockers.push_back(error);
  }
  return content;
}

}  // namespace

Content recognise_content(Store& place) {
  if (lvm::recognise(place)) {
    // What it belongs to is seen when all disks are known.
    Content content;
    content.kind = ContentKind::physical_volume;
    content.name = "physical volume";
    return content;
  }
  if (ext::Filesystem::recognise(place)) return open_ext(place);
  if (auto found = open_swap(place)) return std::move(*found);
  Content content;
  for (const Known& known : known_content) {
    if (!holds(place, known.offset, known.signature)) continue;
    describe_known(place, known, content);
    return content;
  }
  const std::uint64_t look = std::min<std::uint64_t>(place.size(), 1U << 20);
  content.kind = range_is_zero(place, 0, look) ? ContentKind::nothing : ContentKind::unknown;
  content.name = content.kind == ContentKind::nothing ? "empty" : "unknown content";
  return content;
}

}  // namespace jh

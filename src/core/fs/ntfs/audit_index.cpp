#include <algorithm>

#include "core/fs/ntfs/audit_state.h"
#include "core/fs/ntfs/index.h"

namespace jh::ntfs {
namespace {

// One index, from its root down, in the order of its keys.
class IndexAudit {
 public:
  IndexAudit(AuditState& state, const Upcase& upcase, const File& file, const std::u16string& name)
      : state_(state),
        upcase_(upcase),
        number_(file.number()),
        is_folder_(name == u"$I30"),
        index_(state.fs, file, name),
        seen_(index_.blocks()) {}

  void run() {
    walk(index_.top(), 0);
    for (std::uint64_t block = 0; block < index_.blocks(); ++block)
      if (index_.in_use(block) && !seen_[block])
        find("block {} of its index is marked as in use, and nothing leads to it", block);
    for (std::uint64_t bit = index_.blocks(); bit < index_.bitmap_bits(); ++bit)
      if (index_.bitmap_bit(bit)) {
        find("the bitmap of its index marks block {}, which is not there", bit);
        break;
      }
  }

 private:
  template <class... Args>
  void find(fmt::format_string<Args...> text, Args&&... args) {
    state_.find(fmt::format("folder {}", number_), text, std::forward<Args>(args)...);
  }

  void walk(const Index::Node& node, std::size_t depth) {
    constexpr std::size_t deepest = 64;
    if (depth > deepest) damaged("its index is deeper than it can be", where());
    Index::for_each_entry(node, [&](const Index::Entry& entry) {
      if (entry.child) descend(*entry.child, depth);
      if (!entry.is_last() && is_folder_) look(entry);
      return true;
    });
  }

  std::string where() const { return fmt::format("NTFS, folder {}", number_); }

  void descend(std::uint64_t vcn, std::size_t depth) {
    const std::uint64_t size = index_.root().block_size.value();
    const std::uint64_t at = checked_mul(vcn, index_.vcn_unit());
    const std::uint64_t block = at / size;
    if (at % size != 0 || block >= index_.blocks())
      damaged(fmt::format("its index leads to block {}, which is not there", block), where());
    if (seen_[block]) damaged(fmt::format("its index leads to block {} twice", block), where());
    seen_[block] = true;
    if (!index_.in_use(block)) find("block {} of its index is in use, and not marked", block);
    const Index::Node node = index_.block(block);
    if (node.vcn != vcn) find("block {} of its index says that it is another", block);
    walk(node, depth + 1);
  }

  void look(const Index::Entry& entry) {
    const NameKey key = parse_name(entry.key);
    std::u16string capital = upcase_(key.name);
    // Names of the POSIX space may differ in capitals alone.
    if (last_ && capital < *last_) find("its index is not in order");
    last_ = std::move(capital);
    const std::uint64_t reference = entry.head.reference.value();
    const std::uint64_t target = number_of(reference);
    if (target >= state_.sequences.size() || state_.sequences[target] == 0 ||
        state_.sequences[target] != sequence_of(reference)) {
      find("an entry leads to file {}, which is not in use, or another by now", target);
      return;
    }
    if (number_of(key.head.parent.value()) != number_)
      find("an entry for file {} says that it is in another folder", target);
    state_.entries[target] += name_sum(key.head.parent.value(), key.head.space, key.name);
  }

  AuditState& state_;
  const Upcase& upcase_;
  std::uint64_t number_;
  bool is_folder_;
  Index index_;
  std::vector<bool> seen_;
  std::optional<std::u16string> last_;
};

}  // namespace

void audit_indexes(AuditState& state) {
  const Upcase upcase(state.fs);
  for (std::uint64_t number = 0; number < state.sequences.size(); ++number) {
    if (state.sequences[number] == 0) continue;
    // Other indexes than folders' are in the volume's own files.
    if (!state.folders[number] && number >= file::first_user + 16) continue;
    try {
      const File file(state.fs, state.fs.read_record(number));
      for (std::size_t i = 0; i < file.pieces().size(); ++i)
        if (file.pieces()[i].attribute.type() == type::index_root)
          IndexAudit(state, upcase, file, file.pieces()[i].attribute.name()).run();
    } catch (const Error& error) {
      if (error.status() == Status::io) throw;
      state.findings.add(
          error.where().empty() ? fmt::format("NTFS, folder {}", number) : error.where(),
          error.what());
    }
    if (number % 256 == 0) state.progress.advance(0);
  }
  for (std::uint64_t number = 0; number < state.sequences.size(); ++number)
    if (state.names[number] != state.entries[number])
      state.find(fmt::format("file {}", number),
                 "the names it says it has are not those that folders have for it");
}

}  // namespace jh::ntfs

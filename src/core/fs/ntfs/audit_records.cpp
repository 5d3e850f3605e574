#include <algorithm>
#include <string_view>

#include "core/fs/ntfs/audit_state.h"
#include "core/fs/ntfs/index.h"

namespace jh::ntfs {

std::uint64_t name_sum(std::uint64_t parent, std::uint8_t space, const std::u16string& name) {
  std::uint64_t sum = parent * 0x9E3779B97F4A7C15 + space;
  for (const char16_t unit : name) sum = (sum ^ unit) * 0x100000001B3 + (sum >> 47);
  return sum;
}

namespace {

class RecordAudit {
 public:
  explicit RecordAudit(AuditState& state) : state_(state), fs_(state.fs), g_(state.fs.geometry()) {}

  void run() {
    read_bitmap();
    std::uint64_t done = 0;
    if (state_.all) {
      state_.progress.begin("audit the files", fs_.records() * g_.record_size);
      fs_.for_each_raw_record([&](std::uint64_t number, ByteSpan raw) {
        look(number, raw);
        if (number % 1024 == 0) state_.progress.advance(done = number * g_.record_size);
      });
      state_.progress.end();
      look_at_strays();
      return;
    }
    for (std::uint64_t number = 0; number < file::first_spare; ++number) {
      Buffer raw = fs_.raw_record(number);
      look(number, raw);
    }
  }

 private:
  void read_bitmap() {
    const Stream bitmap = File(fs_, fs_.read_record(file::mft)).stream(type::bitmap);
    const std::uint64_t bytes = ceil_div(fs_.records(), 8);
    if (bitmap.size() < bytes) {
      state_.find("$MFT", "the bitmap of records has {} bytes, and {} records need {}",
                  bitmap.size(), fs_.records(), bytes);
      return;
    }
    state_.records = BitMap(bitmap.read(0, bytes));
  }

  template <class... Args>
  void find(std::uint64_t number, fmt::format_string<Args...> text, Args&&... args) {
    state_.find(fmt::format("file {}", number), text, std::forward<Args>(args)...);
  }

  void look(std::uint64_t number, ByteSpan raw) {
    const bool marked = state_.records.test(number);
    const bool is_record = std::string_view(reinterpret_cast<const char*>(raw.data()), 4) == "FILE";
    const bool in_use =
        is_record && (parse_as<RecordHeader>(raw, 0).flags.value() & record_flags::in_use) != 0;
    if (marked && !is_record) find(number, "it is marked as in use, and has no record");
    if (marked && is_record && !in_use)
      find(number, "it is marked as in use, and its record is not");
    if (!marked && in_use) find(number, "its record is in use, and not marked");
    if (!in_use) return;
    try {
      auto record = Record::from_disk(number, Buffer(raw.begin(), raw.end()), "NTFS, file");
      const RecordHeader header = record.header();
      if (header.block.fixup_offset.value() >= sizeof(RecordHeader) &&
          header.number.value() != static_cast<std::uint32_t>(number))
        find(number, "its record says that it is number {}", header.number.value());
      if (header.bytes_allocated.value() != g_.record_size)
        find(number, "its record says that it has {} bytes", header.bytes_allocated.value());
      if (header.base.value() == 0)
        look_at_file(std::move(record));
      else if (state_.all)
        state_.further[number] = true;
    } catch (const Error& error) {
      if (error.status() == Status::io) throw;
      state_.findings.add(error.where(), error.what());
    }
  }

  void look_at_file(Record record) {
    const std::uint64_t number = record.number;
    if (state_.all) {
      state_.sequences[number] = record.header().sequence.value();
      state_.folders[number] = record.is_folder();
    }
    const File file(fs_, std::move(record));
    if (state_.all)
      for (const auto& [extension, unused] : file.extensions()) state_.listed[extension] = true;
    if (file.list() && !file.list()->resident()) claim(number, file.list()->runs(g_.clusters));
    look_at_names(file);
    for (std::size_t first = 0; first < file.pieces().size(); first = file.next_stream(first))
      if (!file.pieces()[first].attribute.resident()) look_at_stream(file, first);
  }

  void look_at_names(const File& file) {
    std::uint64_t count = 0;
    std::uint64_t short_names = 0;
    for (const Extent& piece : file.pieces()) {
      if (piece.attribute.type() != type::file_name) continue;
      if (!piece.attribute.resident()) {
        find(file.number(), "a name of it is not in its record");
        continue;
      }
      const NameKey key = parse_name(piece.attribute.value());
      ++count;
      constexpr std::uint8_t dos = 2;
      if (key.head.space == dos) ++short_names;
      if (state_.all)
        state_.names[file.number()] += name_sum(key.head.parent.value(), key.head.space, key.name);
    }
    const std::uint64_t said = file.base().header().links.value();
    if (count != 0 && said != count && said != count - short_names)
      find(file.number(), "its record counts {} names, it has {}", said, count);
    if (count == 0 && file.number() >= file::first_user && said != 0)
      find(file.number(), "it has no name");
  }

  void claim(std::uint64_t number, const ClusterRuns& runs) {
    for (const ClusterRun& run : runs) {
      if (run.is_hole()) continue;
      const std::uint64_t taken = state_.claimed.next(run.lcn, run.lcn_end(), true);
      if (taken != run.lcn_end())
        find(number, "cluster {} of it is that of another too, or twice its own", taken);
      state_.claimed.set_range(run.lcn, run.lcn_end(), true);
    }
  }

  void look_at_stream(const File& file, std::size_t first) {
    const Attribute& attribute = file.pieces()[first].attribute;
    const std::uint64_t number = file.number();
    if (attribute.lowest_vcn() != 0) {
      find(number, "{}: its first piece is missing", file.text(first));
      return;
    }
    const ClusterRuns runs = file.runs(first);
    const std::uint64_t end = runs.empty() ? 0 : runs.back().vcn_end();
    claim(number, runs);
    const bool is_bad = number == file::bad_clusters && attribute.name() == u"$Bad";
    const bool may_have_holes =
        is_bad ||
        (attribute.flags() & (attribute_flags::sparse | attribute_flags::compression_mask)) != 0;
    if (!may_have_holes &&
        std::any_of(runs.begin(), runs.end(), [](const ClusterRun& run) { return run.is_hole(); }))
      find(number, "{}: it has holes, and is not marked as sparse", file.text(first));
    if (end * g_.cluster_size != attribute.allocated_size())
      find(number, "{}: {} bytes are said to be allocated, its run list has {}", file.text(first),
           attribute.allocated_size(), end * g_.cluster_size);
    if (attribute.data_size() > attribute.allocated_size() ||
        attribute.initialized_size() > attribute.data_size())
      find(number, "{}: its sizes contradict each other", file.text(first));
    if (is_bad && end != g_.clusters)
      find(number, "the list of bad clusters covers {} clusters, the volume has {}", end,
           g_.clusters);
  }

  // Extension records that no file names.
  void look_at_strays() {
    for (std::uint64_t number = 0; number < state_.further.size(); ++number)
      if (state_.further[number] && !state_.listed[number])
        find(number, "it is a further record of file {}, which does not name it",
             number_of(fs_.read_record(number).header().base.value()));
  }

  AuditState& state_;
  Filesystem& fs_;
  const Geometry& g_;
};

}  // namespace

void audit_records(AuditState& state) { RecordAudit(state).run(); }

}  // namespace jh::ntfs

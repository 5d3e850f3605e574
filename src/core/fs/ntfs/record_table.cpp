#include "core/fs/ntfs/record_table.h"

#include "core/fs/ntfs/edit.h"

namespace jh::ntfs {

void grow_record_table(Filesystem& fs, Room& room, std::uint64_t records) {
  const Geometry& g = fs.geometry();
  const File table(fs, fs.read_record(file::mft));
  FileEdit edit(fs, room, table);
  const std::uint64_t old_count = fs.records();
  const auto data = table.find(type::data);
  const auto bits = table.find(type::bitmap);
  ensure(data && bits, "$MFT has its attributes");
  const auto lengthen = [&](std::size_t first, std::uint64_t bytes) {
    ClusterRuns runs = table.runs(first);
    const std::uint64_t end = runs.empty() ? 0 : runs.back().vcn_end();
    const std::uint64_t needed = ceil_div(bytes, g.cluster_size);
    if (needed > end) {
      const ClusterRuns more = room.take(end, needed - end);
      // Before anything refers to them: in what is added, nothing must stand that reads as more.
      for (const ClusterRun& run : more) {
        room.note_written(run.count * g.cluster_size);
        for (std::uint64_t k = 0; k < run.count; ++k)
          fs.store().write_unreferenced(g.offset(run.lcn + k), Buffer(g.cluster_size));
        append_run(runs, run);
      }
    }
    edit.set_runs(table.pieces()[first].attribute.type(), {}, runs,
                  FileEdit::Sizes{runs.back().vcn_end() * g.cluster_size, bytes, bytes});
    return runs;
  };
  const std::uint64_t count = old_count + records;
  // Where the clusters reach further than the records did, they are filled.
  const ClusterRuns runs = lengthen(*data, count * g.record_size);
  const Stream grown(fs.store(), g, runs, count * g.record_size, count * g.record_size);
  const RecordHeader like = table.base().header();
  for (std::uint64_t number = old_count; number < count; ++number) {
    Record record = Record::blank(number, like);
    record.set_attributes({});
    do_fixups(record.raw);
    grown.write(number * g.record_size, record.raw, true);
  }
  const Attribute& bitmap = table.pieces()[*bits].attribute;
  const std::uint64_t bytes = ceil_div(count, 64) * 8;
  if (bytes > bitmap.data_size()) {
    if (bitmap.resident()) {
      Buffer value(bitmap.value().begin(), bitmap.value().end());
      value.resize(bytes);
      edit.set_value(type::bitmap, value);
    } else {
      lengthen(*bits, bytes);
    }
  }
  edit.finish();
}

Room make_room(Filesystem& fs, Clusters& clusters, Mode mode) {
  return Room(fs, clusters, mode, grow_record_table);
}

void write_record_map(Filesystem& fs, Room& room) {
  const BitMap* records = room.changed_records();
  if (records == nullptr || room.mode() == Mode::rehearse) return;
  const File table(fs, fs.read_record(file::mft));
  const auto first = table.find(type::bitmap);
  ensure(first.has_value(), "$MFT has a bitmap");
  const Attribute& attribute = table.pieces()[*first].attribute;
  Buffer bytes(records->bytes().begin(), records->bytes().end());
  if (!attribute.resident()) {
    table.stream(*first).write(0, bytes);
    return;
  }
  // Its length stays.
  bytes.resize(attribute.value().size());
  FileEdit edit(fs, room, table);
  edit.set_value(type::bitmap, bytes);
  edit.finish();
}

}  // namespace jh::ntfs

#include "core/container/fill.h"

#include <fmt/format.h>

#include <atomic>
#include <future>
#include <thread>

#include "core/base/compression.h"
#include "core/base/prefetcher.h"
#include "core/container/qcow2/qcow2.h"
#include "core/container/vmdk/extent.h"

namespace jh {
namespace {

constexpr std::uint64_t most_at_once = 4U << 20;

// Calls visit(offset, length) for each stretch that is not known to be zero.
template <class Visit>
void for_each_kept(ImageReader& from, Visit visit) {
  const std::uint64_t size = from.disk().size();
  for (std::uint64_t at = 0; at < size;) {
    const Range run = from.disk().map(at, size - at);
    if (!run.zero) visit(at, run.length);
    at += run.length;
  }
}

}  // namespace

std::uint64_t bytes_kept(ImageReader& from) {
  std::uint64_t kept = 0;
  for_each_kept(from, [&](std::uint64_t, std::uint64_t length) { kept += length; });
  return kept;
}

void fill_disk(ImageReader& from, Container& to, Progress& progress) {
  constexpr std::uint64_t most = 2U << 20;
  Store& disk = to.disk();
  std::uint64_t done = 0;
  const auto put = [&](std::uint64_t start, ConstByteSpan part) {
    // Forms in blocks leave out what is zero by themselves.
    const Extent piece = to.extent_at(start, part.size());
    piece.kind == Extent::Kind::data ? write_into_zeros(disk, start, part)
                                     : disk.write_unreferenced(start, part);
    done += part.size();
    progress.advance(done);
  };
  struct FilledRange {
    std::uint64_t start = 0;
    Buffer bytes;
  };
  // The two sides touch different files.
  Prefetcher<FilledRange> stretches(4, [&](const auto& add) {
    for_each_kept(from, [&](std::uint64_t start, std::uint64_t length) {
      for (const std::uint64_t end = start + length; start < end;) {
        // Whole pieces at the same offsets in every form: fewer and larger writes.
        const std::uint64_t step = std::min(end - start, most - start % most);
        add([&](FilledRange& stretch) {
          stretch.start = start;
          stretch.bytes.resize(step);
          from.disk().read(start, stretch.bytes);
        });
        start += step;
      }
    });
  });
  while (const FilledRange* stretch = stretches.next()) put(stretch->start, stretch->bytes);
}

namespace {

// How far from `offset` on, at most `length`, pieces are all zero, or none of them is: by reading.
Range zeros_or_data(Store& disk, std::uint64_t offset, std::uint64_t length) {
  constexpr std::uint64_t piece = 64U << 10;
  const auto next = [&](std::uint64_t done) {
    return std::min(length - done, piece - (offset + done) % piece);
  };
  Range run{offset, next(0), false};
  run.zero = range_is_zero(disk, offset, run.length);
  while (run.length < length &&
         range_is_zero(disk, offset + run.length, next(run.length)) == run.zero)
    run.length += next(run.length);
  return run;
}

}  // namespace

Transferred share_disk(ImageReader& from, Container& to, bool find_zeros, Progress& progress) {
  // Few calls where the source is in one piece; often enough to see it go on.
  constexpr std::uint64_t most = 1ULL << 30;
  Transferred result;
  for_each_kept(from, [&](std::uint64_t at, std::uint64_t length) {
    for (const std::uint64_t end = at + length; at < end;) {
      Range run{at, std::min(end - at, most), false};
      if (find_zeros) run = zeros_or_data(from.disk(), at, run.length);
      if (!run.zero) {
        to.allocate(at, run.length);
        result += transfer(from.disk(), at, to.disk(), at, run.length);
      }
      at += run.length;
      progress.advance(result.total());
    }
  });
  return result;
}

Transferred shareable(ImageReader& from) {
  Transferred result;
  for_each_kept(from, [&](std::uint64_t at, std::uint64_t length) {
    for (const std::uint64_t end = at + length; at < end;) {
      const Location place = from.disk().locate(at, end - at);
      const bool can_be =
          place.store != nullptr && place.at % share_alignment == at % share_alignment;
      (can_be ? result.shared : result.copied) += place.length;
      at += place.length;
    }
  });
  return result;
}

namespace {

struct Packed {
  std::uint64_t number = 0;  // of the block
  Buffer content;
  Buffer compressed;  // empty: it is not worth it
  bool zero = false;
};

// Reads blocks in batches, compresses each batch with all processors while the next one is read,
// and hands them on in order.
class CompressionLine {
 public:
  CompressionLine(ImageReader& from, std::uint64_t block, Compression way, std::size_t most)
      : from_(from), block_(block), way_(way), most_(most) {}

  template <class Take>
  void run(Progress& progress, Take take) {
    std::uint64_t next = 0;  // the first block not looked at yet
    std::uint64_t done = 0;
    std::vector<Packed> batch;
    std::vector<Packed> in_work;
    std::vector<std::future<void>> working;
    // Before a batch is written, the next one is at work.
    const auto send = [&] {
      for (auto& worker : working) worker.get();
      working.clear();
      std::vector<Packed> compressed = std::move(in_work);
      in_work = std::move(batch);
      batch.clear();
      const std::size_t hands = std::max(1U, std::thread::hardware_concurrency());
      // Whoever is done takes the next block: this thread needs a processor at times too.
      turn_ = 0;
      for (std::size_t hand = 0; hand < hands && !in_work.empty(); ++hand)
        working.push_back(std::async(std::launch::async, [this, &in_work] {
          for (std::size_t i = turn_++; i < in_work.size(); i = turn_++) pack_one(in_work[i]);
        }));
      for (const Packed& one : compressed)
        if (!one.zero) take(one);
    };
    for_each_kept(from_, [&](std::uint64_t start, std::uint64_t length) {
      const std::uint64_t end = ceil_div(start + length, block_);
      for (next = std::max(next, start / block_); next < end; ++next) {
        Packed one{next, Buffer(block_), {}, false};
        const std::uint64_t at = next * block_;
        const std::uint64_t there = std::min(block_, from_.disk().size() - at);
        from_.disk().read(at, ByteSpan(one.content).first(there));
        batch.push_back(std::move(one));
        done += there;
        progress.advance(done);
        if (batch.size() * block_ >= most_at_once * 4) send();
      }
    });
    send();
    send();
  }

 private:
  void pack_one(Packed& one) const {
    one.zero = all_zero(one.content);
    if (!one.zero) one.compressed = pack(way_, one.content, most_);
  }

  ImageReader& from_;
  std::uint64_t block_;
  Compression way_;
  std::size_t most_;
  std::atomic<std::size_t> turn_ = 0;  // the next block of the batch to be compressed
};

}  // namespace

void fill_compressed(ImageReader& from, Store& file, const NewContainer& wanted,
                     Progress& progress) {
  const std::uint64_t size = wanted.disk_size.value();
  if (wanted.format == ImageFormat::qcow2) {
    const qcow2::NewImage image{};
    const std::uint64_t cluster = std::uint64_t{1} << image.cluster_bits;
    qcow2::CompressedWriter writer(file, size, image);
    CompressionLine line(from, cluster, Compression::deflate, cluster - 512);
    line.run(progress, [&](const Packed& one) {
      one.compressed.empty() ? writer.put_plain(one.number, one.content)
                             : writer.put(one.number, one.compressed);
    });
    writer.finish();
    return;
  }
  ensure(wanted.format == ImageFormat::vmdk, "this form has packed images");
  constexpr std::uint64_t grain = vmdk::StreamWriter::grain;
  vmdk::StreamWriter writer(file, size, descriptor_for(file.name(), wanted));
  // There is no way to say that a grain is not compressed: it may become a little longer.
  CompressionLine line(from, grain, Compression::zlib, grain + grain / 64);
  line.run(progress, [&](const Packed& one) { writer.put(one.number, one.compressed); });
  writer.finish();
}

void compare_disks(ImageReader& one, ImageReader& other, Progress& progress) {
  Store& a = one.disk();
  Store& b = other.disk();
  const std::uint64_t size = std::max(a.size(), b.size());
  Buffer left;
  Buffer right;
  const auto read = [](Store& store, std::uint64_t at, Buffer& out) {
    const std::uint64_t there =
        at >= store.size() ? 0 : std::min<std::uint64_t>(out.size(), store.size() - at);
    std::fill(out.begin(), out.end(), std::uint8_t{0});
    if (there != 0) store.read(at, ByteSpan(out).first(there));
  };
  const auto zero_run = [](Store& store, std::uint64_t at, std::uint64_t length) -> std::uint64_t {
    if (at >= store.size()) return length;
    const Range run = store.map(at, std::min(length, store.size() - at));
    return run.zero ? run.length : 0;
  };
  for (std::uint64_t at = 0; at < size;) {
    const std::uint64_t length = size - at;
    const std::uint64_t skip = std::min(zero_run(a, at, length), zero_run(b, at, length));
    if (skip != 0) {
      at += skip;
      continue;
    }
    const std::uint64_t step = std::min(most_at_once, length);
    left.resize(step);
    right.resize(step);
    read(a, at, left);
    read(b, at, right);
    if (left != right) {
      const auto differs = std::mismatch(left.begin(), left.end(), right.begin()).first;
      damaged(fmt::format("the copy differs at byte {} of the disk",
                          at + static_cast<std::uint64_t>(differs - left.begin())),
              b.name(), "the host's disk or memory cannot be trusted; look at its system log");
    }
    at += step;
    progress.advance(at);
  }
}

}  // namespace jh

#include "core/store/ledger_apply.h"

#include <fmt/format.h>

#include <map>

#include "core/base/checksum.h"
#include "core/base/ranges.h"

namespace jh {

using ledger::RecordKind;

namespace {

std::vector<std::uint64_t> new_sizes(Ledger& ledger, const std::vector<Store*>& images) {
  std::vector<std::uint64_t> sizes;
  for (const Ledger::Image& image : ledger.images()) sizes.push_back(image.old_size);
  ensure(sizes.size() == images.size(), "every image of the ledger is open");
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::new_size) sizes[entry.image] = entry.offset;
  });
  return sizes;
}

// Writes entries in order, those close to each other together: what lies between is written again
// as it is, which harms nothing and saves many small writes.
class Gathering {
 public:
  explicit Gathering(const std::vector<Store*>& images) : images_(images) {}
  ~Gathering() = default;
  Gathering(const Gathering&) = delete;
  Gathering& operator=(const Gathering&) = delete;

  void write(const Ledger::Entry& entry) {
    constexpr std::uint64_t near = 4096;
    constexpr std::uint64_t worth_a_hole = 65536;
    if (entry.zero && entry.length >= worth_a_hole) {
      finish();
      clear(*images_[entry.image], entry.offset, entry.length);
      return;
    }
    const std::uint64_t end = start_ + waiting_.size();
    const bool joins = !waiting_.empty() && entry.image == image_ && entry.offset >= end &&
                       entry.offset - end < near && waiting_.size() < ledger::max_payload;
    if (joins) {
      const Buffer gap = read_buffer(*images_[image_], end, entry.offset - end);
      waiting_.insert(waiting_.end(), gap.begin(), gap.end());
    } else {
      finish();
      image_ = entry.image;
      start_ = entry.offset;
    }
    if (entry.zero) {
      waiting_.resize(waiting_.size() + entry.length);
    } else {
      waiting_.insert(waiting_.end(), entry.payload.begin(), entry.payload.end());
    }
  }

  // What is a hole already, or promised by the host but not written yet, stays as it is.
  static void clear(Store& image, std::uint64_t offset, std::uint64_t length) {
    length = std::min(length, image.size() - std::min(image.size(), offset));
    while (length != 0) {
      const Run run = image.map(offset, length);
      if (!run.zero) image.discard(offset, run.length);
      offset += run.length;
      length -= run.length;
    }
  }

  void finish() {
    if (!waiting_.empty()) images_[image_]->write(start_, waiting_);
    waiting_.clear();
  }

 private:
  const std::vector<Store*>& images_;
  std::uint32_t image_ = 0;
  std::uint64_t start_ = 0;
  Buffer waiting_;
};

// Calls visit(offset in the entry, bytes there now, bytes of the entry) in bounded pieces; bytes
// past the image's end, where it may not have grown yet, read as zeros.
template <class Visit>
void compare(Store& image, const Ledger::Entry& entry, Visit visit) {
  constexpr std::uint64_t piece = ledger::max_payload;
  Buffer now;
  Buffer wanted;
  for (std::uint64_t done = 0; done < entry.length; done += piece) {
    const std::uint64_t step = std::min(piece, entry.length - done);
    const std::uint64_t at = checked_add(entry.offset, done);
    now.assign(step, 0);
    const std::uint64_t there = at >= image.size() ? 0 : std::min(step, image.size() - at);
    if (there != 0) image.read(at, ByteSpan(now).first(there));
    if (entry.zero) {
      wanted.assign(step, 0);
    } else {
      wanted.assign(entry.payload.begin() + static_cast<std::ptrdiff_t>(done),
                    entry.payload.begin() + static_cast<std::ptrdiff_t>(done + step));
    }
    visit(done, now, wanted);
  }
}

[[noreturn]] void not_the_image(const Store& image, const std::string& what) {
  refuse(what, image.name(),
         "nothing was written; put the image back that the interrupted change was made on");
}

}  // namespace

void apply_changes(Ledger& ledger, const std::vector<Store*>& images) {
  const auto sizes = new_sizes(ledger, images);
  for (std::size_t i = 0; i < images.size(); ++i)
    if (images[i]->size() < sizes[i]) images[i]->resize(sizes[i]);
  Gathering gathering(images);
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::after) gathering.write(entry);
  });
  gathering.finish();
  for (Store* image : images) image->flush();
  for (std::size_t i = 0; i < images.size(); ++i) {
    if (images[i]->size() == sizes[i]) continue;
    images[i]->resize(sizes[i]);
    images[i]->flush();
  }
}

namespace {

// Fetches back what moved, as long as nothing is put back where it is now.
void fetch_moved(Ledger& ledger, const std::vector<Store*>& images) {
  bool any = false;
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind != RecordKind::moved) return;
    const auto place = parse_as<ledger::MovedTo>(entry.payload, 0);
    Store& now = *images[place.image.value()];
    const Buffer bytes = read_buffer(now, place.offset.value(), entry.length);
    if (crc32c(bytes) != place.crc.value())
      not_the_image(now, fmt::format("the {} bytes at byte {} are not what the change moved there",
                                     entry.length, place.offset.value()));
    images[entry.image]->write(entry.offset, bytes);
    any = true;
  });
  if (!any) return;
  for (Store* image : images) image->flush();
  ledger.mark_fetched();
}

void restore(Ledger& ledger, const std::vector<Store*>& images, bool sealed) {
  for (std::size_t i = 0; i < images.size(); ++i)
    if (images[i]->size() < ledger.images()[i].old_size)
      images[i]->resize(ledger.images()[i].old_size);
  if (sealed && !ledger.is_fetched()) fetch_moved(ledger, images);
  const auto wrote = sealed ? written_directly(ledger) : std::vector<Ranges>();
  Gathering gathering(images);
  const auto put = [&](const Ledger::Entry& entry) {
    // A held page past the old end vanishes with the truncation below.
    const std::uint64_t old_size = ledger.images()[entry.image].old_size;
    if (entry.offset >= old_size) return;
    if (entry.length <= old_size - entry.offset) {
      gathering.write(entry);
      return;
    }
    Ledger::Entry part = entry;
    part.length = old_size - entry.offset;
    if (!part.zero) part.payload.resize(part.length);
    gathering.write(part);
  };
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (sealed && entry.kind == RecordKind::before_direct && entry.zero)
      for_each_inside(wrote[entry.image], entry.offset, entry.offset + entry.length,
                      [&](std::uint64_t start, std::uint64_t end) {
                        put({entry.kind, entry.image, true, start, end - start, {}});
                      });
    else if (entry.kind == RecordKind::before_direct ||
             (sealed && (entry.kind == RecordKind::before || entry.kind == RecordKind::cut)))
      put(entry);
  });
  gathering.finish();
  for (Store* image : images) image->flush();
  for (std::size_t i = 0; i < images.size(); ++i) {
    if (images[i]->size() == ledger.images()[i].old_size) continue;
    images[i]->resize(ledger.images()[i].old_size);
    images[i]->flush();
  }
}

}  // namespace

void roll_back(Ledger& ledger, const std::vector<Store*>& images) {
  restore(ledger, images, false);
}

void put_back(Ledger& ledger, const std::vector<Store*>& images) { restore(ledger, images, true); }

std::vector<Ranges> written_directly(Ledger& ledger) {
  std::vector<Ranges> wrote(ledger.images().size());
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::wrote)
      add_range(wrote[entry.image], entry.offset, checked_add(entry.offset, entry.length));
  });
  return wrote;
}

void check_is_unfinished(Ledger& ledger, Host& host, const std::vector<Store*>& images) {
  for (std::size_t i = 0; i < images.size(); ++i) {
    const Ledger::Image& known = ledger.images()[i];
    if (images[i]->size() < known.old_size)
      not_the_image(*images[i], "the image is shorter than before the interrupted change");
    if (!host.exists(known.path) || host.identity(known.path) == known.identity) continue;
    const std::uint64_t length = std::min(known.old_size, ledger::fingerprint_size);
    if (crc32c(read_buffer(*images[i], 0, length)) != known.fingerprint)
      not_the_image(*images[i], "this is not the image that the interrupted change was begun on");
  }
}

void check_old_or_new(Ledger& ledger, const std::vector<Store*>& images) {
  // An `after` record follows its `before` records; remember those until it comes.
  std::map<std::pair<std::uint32_t, std::uint64_t>, Ledger::Entry> olds;
  ledger.for_each([&](const Ledger::Entry& entry) {
    if (entry.kind == RecordKind::before) olds[{entry.image, entry.offset}] = entry;
    if (entry.kind != RecordKind::after) return;
    const auto old = olds.find({entry.image, entry.offset});
    if (old == olds.end() || old->second.length != entry.length)
      damaged("the ledger's old and new bytes do not pair up", ledger.path());
    Store& image = *images[entry.image];
    compare(image, entry, [&](std::uint64_t at, const Buffer& now, const Buffer& fresh) {
      for (std::size_t i = 0; i < now.size(); ++i) {
        const std::uint8_t was = old->second.zero ? 0 : old->second.payload[at + i];
        if (now[i] != fresh[i] && now[i] != was)
          not_the_image(image, fmt::format("byte {} is neither what it was before the interrupted "
                                           "change nor what it was to become",
                                           entry.offset + at + i));
      }
    });
    olds.erase(old);
  });
}

void check_untouched_since(Ledger& ledger, const std::vector<Store*>& images) {
  const auto written_since = [](const Store& image, std::uint64_t offset) {
    refuse(fmt::format("the image has been written since the change (at byte {})", offset),
           image.name(),
           "the change cannot be undone any more; the guest's newer data would be lost");
  };
  const auto sizes = new_sizes(ledger, images);
  for (std::size_t i = 0; i < images.size(); ++i)
    if (images[i]->size() != sizes[i])
      refuse(fmt::format("the image is {} bytes long, but the change left {}", images[i]->size(),
                         sizes[i]),
             images[i]->name(), "the change cannot be undone any more");

  // Ranges past the old end that the change wrote; everything else there must still be zeros.
  std::vector<std::map<std::uint64_t, std::uint64_t>> ours(images.size());
  ledger.for_each([&](const Ledger::Entry& entry) {
    Store& image = *images[entry.image];
    if (entry.kind == RecordKind::after) {
      compare(image, entry, [&](std::uint64_t at, const Buffer& now, const Buffer& fresh) {
        if (now != fresh) written_since(image, entry.offset + at);
      });
    } else if (entry.kind == RecordKind::wrote) {
      const auto digest = parse_as<Le32>(entry.payload, 0);
      image.check_range(entry.offset, entry.length);
      if (entry.length > ledger::max_payload ||
          crc32c(read_buffer(image, entry.offset, entry.length)) != digest.value())
        written_since(image, entry.offset);
    } else if (entry.kind == RecordKind::moved) {
      const auto place = parse_as<ledger::MovedTo>(entry.payload, 0);
      Store& now = *images[place.image.value()];
      if (crc32c(read_buffer(now, place.offset.value(), entry.length)) != place.crc.value())
        written_since(now, place.offset.value());
      return;
    } else {
      return;
    }
    ours[entry.image][entry.offset] = entry.offset + entry.length;
  });
  for (std::size_t i = 0; i < images.size(); ++i) {
    std::uint64_t at = ledger.images()[i].old_size;
    const auto rest_is_zero = [&](std::uint64_t end) {
      if (end > at && !range_is_zero(*images[i], at, end - at)) written_since(*images[i], at);
    };
    for (const auto& [start, end] : ours[i]) {
      rest_is_zero(start);
      at = std::max(at, end);
    }
    rest_is_zero(images[i]->size());
  }
}

}  // namespace jh

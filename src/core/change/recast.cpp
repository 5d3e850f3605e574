#include "core/change/recast.h"

#include <fmt/format.h>

#include <cstring>
#include <filesystem>

#include "core/base/uuid.h"
#include "core/container/fill.h"
#include "core/container/vmdk/vmdk.h"
#include "core/plan/plan.h"
#include "core/store/copy.h"
#include "core/store/transaction.h"

namespace jh {
namespace {

Uuid uuid_from_text(const std::string& text) {
  Uuid id{};
  std::string digits;
  for (const char c : text)
    if (c != '-') digits += c;
  if (digits.size() != 32) return id;
  constexpr std::array<std::size_t, 16> order{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
  for (std::size_t i = 0; i < 16; ++i)
    id[order[i]] = static_cast<std::uint8_t>(std::stoul(digits.substr(i * 2, 2), nullptr, 16));
  return id;
}

bool has_identity(ImageFormat format) {
  return format == ImageFormat::vdi || format == ImageFormat::vhd || format == ImageFormat::vhdx;
}

// Two files of one form with one identity would be taken for each other; across forms it may stay.
void choose_identity(RecastPlan& plan) {
  NewContainer& to = plan.to;
  if (to.format == ImageFormat::vmdk) {
    to.content_id = random_content_id();
    // It stands for the content, which is the same.
    if (plan.from.format == ImageFormat::vmdk)
      if (const auto kept = vmdk::parse_content_id(plan.from.identity)) to.content_id = *kept;
    return;
  }
  if (!has_identity(to.format)) return;
  if (has_identity(plan.from.format) && plan.from.format != to.format &&
      !plan.from.identity.empty()) {
    to.id = uuid_from_text(plan.from.identity);
    plan.notes.push_back("the new image keeps the disk's identity " + plan.from.identity);
    return;
  }
  to.id = random_guid();
  plan.notes.push_back(
      has_identity(plan.from.format)
          ? fmt::format("the new image gets an identity of its own, {}: two {} images with one "
                        "would be taken for each other",
                        guid_text(to.id), format_name(to.format))
          : "the new image gets the identity " + guid_text(to.id));
}

// Tables take less than a part in 256 of what they speak of, in every form.
std::uint64_t room_needed(const RecastPlan& plan) {
  const std::uint64_t whole =
      plan.to.allocation == Allocation::full ? plan.to.disk_size.value() : plan.bytes_to_read;
  if (plan.transfer.shared == 0) return whole;
  return whole - plan.transfer.shared + plan.transfer.shared / 256;
}

bool has_keeping(ImageFormat format, Allocation allocation) {
  switch (allocation) {
    case Allocation::sparse:
      return true;
    case Allocation::full:
      return format != ImageFormat::qcow2;
    case Allocation::compressed:
      return format == ImageFormat::qcow2 || format == ImageFormat::vmdk;
  }
  return false;
}

}  // namespace

namespace {

// A full image owns its room, whatever is zero today. What it shares has room already, for as long
// as nobody writes there.
void reserve_room(Store& file, bool shares) {
  if (!shares) return file.reserve(0, file.size());
  for (std::uint64_t at = 0; at < file.size();) {
    const Range run = file.map(at, file.size() - at);
    if (run.zero) file.reserve(at, run.length);
    at += run.length;
  }
}

}  // namespace

bool is_adapter(const std::string& name) {
  return name == "ide" || name == "lsilogic" || name == "buslogic";
}

RecastPlan plan_recast(Host& host, ImageReader& from, const RecastRequest& request) {
  RecastPlan plan;
  plan.from = from.facts();
  NewContainer& to = plan.to;
  to.format = request.format.value_or(format_by_extension(request.out).value_or(plan.from.format));
  // A raw image does not say how it is meant; others stay as they are where the form can.
  const bool same =
      plan.from.format != ImageFormat::raw && has_keeping(to.format, plan.from.allocation);
  to.allocation = request.allocation.value_or(same ? plan.from.allocation : Allocation::sparse);
  to.in_pieces = request.in_pieces;
  if (!has_keeping(to.format, to.allocation))
    unsupported(fmt::format("a {} image cannot be {}", format_name(to.format),
                            allocation_name(to.allocation)),
                request.out, "choose another --store or --form");
  if (to.in_pieces && (to.format != ImageFormat::vmdk || to.allocation == Allocation::compressed))
    wrong_usage("only VMDK disks that are sparse or full come in pieces");
  if (plan.from.encrypted)
    unsupported("the image's content is encrypted, and another image could not say how",
                request.image, "recast it inside the hypervisor, which has the key");
  for (const std::uint32_t known : {plan.from.sector_size, request.sector_size})
    if (known != 0) to.sector_size = known;
  for (const std::string& known : {request.adapter, plan.from.adapter})
    if (is_adapter(known)) {
      to.adapter = known;
      break;
    }
  to.disk_size = plan.from.disk_size;
  to.disk_size = size_in_form(to);
  if (to.disk_size != plan.from.disk_size)
    plan.notes.push_back(fmt::format(
        "the disk becomes {} bytes longer: {}", (to.disk_size - plan.from.disk_size).value(),
        to.format == ImageFormat::vhd ? "hosts ask full VHD images for whole MiB"
                                      : "it has whole sectors"));
  if (to.sector_size != 512 && to.format != ImageFormat::vhdx)
    plan.notes.push_back(fmt::format(
        "the disk has sectors of {0} bytes, which a {1} image does not say: attach it with a "
        "logical and physical block size of {0} in the hypervisor, or its guest will not find its "
        "partitions",
        to.sector_size, format_name(to.format)));
  choose_identity(plan);
  plan.parts = parts_of_new(request.out, to);
  for (const std::string& path : plan.parts)
    if (host.exists(path))
      refuse("a file that the new image needs is there already", path,
             "move it away, or choose another name");
  if (host.exists(request.out))
    refuse("the new image's name is taken already", request.out,
           "choose another name, or move it away");
  // Of a disk in several files the named one may hold nothing but their list.
  const std::string& content = plan.from.parts.empty() ? request.image : plan.from.parts.front();
  const bool shares = request.sharing == Sharing::automatic &&
                      to.allocation != Allocation::compressed &&
                      host.can_share(content, request.out);
  plan.transfer = shares ? shareable(from) : Transferred{0, bytes_kept(from)};
  plan.bytes_to_read = plan.transfer.total();
  plan.host_needs = room_needed(plan);
  const std::uint64_t free = host.free_space(request.out);
  // Packing may save anything or nothing; only what is certain to be needed is asked for.
  if (to.allocation != Allocation::compressed && plan.host_needs > free)
    refuse(fmt::format("the new image needs up to {}, but the host has only {} free there",
                       human(Bytes(plan.host_needs)), human(Bytes(free))),
           request.out, "make room, or write it elsewhere");
  return plan;
}

Transferred carry_out_recast(Host& host, ImageReader& from, const RecastPlan& plan,
                             const RecastRequest& request, Progress& progress) {
  Transferred done;
  std::vector<std::string> begun;
  const auto remove_begun = [&] {
    bool gone = true;
    for (const std::string& path : begun) gone &= remove_quietly(host, path);
    return gone;
  };
  try {
    HostFileResolver resolver(host, Access::read_write);
    // Only what we have made ourselves is removed.
    Store& file = resolver.create_part(request.out);
    begun.push_back(request.out);
    host.copy_owner_and_mode(request.out, request.image);
    for (const std::string& part : plan.parts) {
      resolver.create_part(part);
      begun.push_back(part);
      host.copy_owner_and_mode(part, request.image);
    }
    progress.begin("writing " + request.out, plan.bytes_to_read);
    if (plan.to.allocation == Allocation::compressed) {
      fill_compressed(from, file, plan.to, progress);
      done.copied = plan.bytes_to_read;
    } else {
      create_container(file, plan.to, &resolver);
      const auto made = open_container(file, &resolver);
      const auto reserve = [&] {
        if (plan.to.allocation != Allocation::full) return;
        const bool shares = plan.transfer.shared != 0;
        reserve_room(file, shares);
        for (const std::string& part : plan.parts) reserve_room(*resolver.part(part), shares);
      };
      if (plan.transfer.shared != 0) {
        done = share_disk(from, *made, request.find_zeros, progress);
        reserve();
      } else {
        reserve();
        fill_disk(from, *made, progress);
        done.copied = plan.bytes_to_read;
      }
    }
    progress.end();
    progress.begin("making it durable", 0);
    file.flush();
    for (const std::string& part : plan.parts) resolver.part(part)->flush();
    progress.end();
    const auto made = open_container(file, &resolver);
    Findings findings;
    made->audit(findings);
    if (!findings.clean())
      damaged("the new image is not in order: " + findings.kept().front().what, request.out,
              "it was removed; please report this");
    if (request.proof == ProofEffort::full) {
      progress.begin("comparing", plan.to.disk_size.value());
      compare_disks(from, *made, progress);
      progress.end();
    }
  } catch (const Error& error) {
    if (!remove_begun())
      throw Error(
          Status::io,
          fmt::format("{}; and what was written of the new image is still there", error.what()),
          error.where(), "remove " + request.out + "; " + error.next())
          .with_outcome(Outcome::sound);
    if (error.outcome() == Outcome::unsaid) throw error.with_outcome(Outcome::unchanged);
    throw;
  } catch (...) {
    remove_begun();
    throw;
  }
  return done;
}

CopyPlan plan_copy(Host& host, ImageReader& from, const std::string& image, const std::string& out,
                   std::optional<ImageFormat> format, Sharing sharing) {
  const ContainerFacts facts = from.facts();
  const ImageFormat wanted = format.value_or(format_by_extension(out).value_or(facts.format));
  CopyPlan plan;
  RecastRequest& request = plan.request;
  request.image = image;
  request.out = out;
  request.format = wanted;
  request.sharing = sharing;
  // Two files with one identity would be taken for each other: those are written anew.
  plan.as_it_is = wanted == facts.format && facts.blockers.empty() && facts.parts.empty() &&
                  facts.parents.empty() && !has_identity(facts.format);
  if (plan.as_it_is) {
    const std::uint64_t kept = bytes_kept(from);
    const bool shares = sharing == Sharing::automatic && host.can_share(image, out);
    (shares ? plan.transfer.shared : plan.transfer.copied) = kept;
    return plan;
  }
  if (facts.allocation == Allocation::compressed) request.allocation = Allocation::sparse;
  request.in_pieces = wanted == ImageFormat::vmdk && facts.format == ImageFormat::vmdk &&
                      facts.allocation != Allocation::compressed && !facts.variant.empty();
  plan.recast = plan_recast(host, from, request);
  plan.transfer = plan.recast.transfer;
  return plan;
}

CopyMade make_copy(Host& host, const CopyPlan& plan, Progress& progress) {
  const RecastRequest& request = plan.request;
  CopyMade made{{request.out}, {}};
  if (plan.as_it_is) {
    made.content = copy_image(request.image, request.out, request.sharing, progress, "new image");
    return made;
  }
  const auto file = host.open(request.image, Access::read_only);
  HostFileResolver resolver(host);
  const auto from = open_container(*file, &resolver);
  made.content = carry_out_recast(host, *from, plan.recast, request, progress);
  made.files.insert(made.files.end(), plan.recast.parts.begin(), plan.recast.parts.end());
  return made;
}

namespace {

// What reads as zeros is given back to the host; nothing that the guest sees changes at any time.
std::uint64_t give_zeros_back(Store& file, Progress& progress) {
  constexpr std::uint64_t piece = 1U << 20;
  constexpr std::uint64_t unit = 65536;
  std::uint64_t given = 0;
  progress.begin("giving zeros back", file.size());
  for (std::uint64_t at = 0; at < file.size();) {
    const Range run = file.map(at, std::min(piece - at % piece, file.size() - at));
    if (run.zero) {
      // Perhaps reserved all the same; a host that can tell zeros apart can take them back too.
      file.discard(at, run.length);
    } else {
      const Buffer bytes = read_buffer(file, at, run.length);
      for (std::uint64_t i = 0; i < run.length; i += unit) {
        const std::uint64_t step = std::min(unit, run.length - i);
        if (!all_zero(ConstByteSpan(bytes).subspan(i, step))) continue;
        file.discard(at + i, step);
        given += step;
      }
    }
    at += run.length;
    progress.advance(at);
  }
  file.flush();
  progress.end();
  return given;
}

}  // namespace

InPlaceResult recast_in_place(Host& host, const std::string& image, Allocation allocation,
                              Progress& progress) {
  const auto file = host.open(image, Access::read_write);
  HostFileResolver resolver(host);
  InPlaceResult result;
  const auto container = open_container(*file, &resolver);
  const ContainerFacts facts = container->facts();
  if (!facts.blockers.empty()) throw facts.blockers.front();
  const auto check_room = [&](std::uint64_t needed) {
    const std::uint64_t free = host.free_space(image);
    if (allocation == Allocation::full && needed > free)
      refuse(fmt::format("a full image needs up to {} more, but the host has only {} free",
                         human(Bytes(needed)), human(Bytes(free))),
             image, "make room on the host's filesystem");
  };
  if (facts.format == ImageFormat::raw && allocation != Allocation::compressed) {
    std::uint64_t missing = 0;
    for (std::uint64_t at = 0; at < file->size();) {
      const Range run = file->map(at, file->size() - at);
      if (run.zero) missing += run.length;
      at += run.length;
    }
    check_room(missing);
    failing_with(Outcome::sound, [&] {
      if (allocation == Allocation::sparse)
        result.given_back = give_zeros_back(*file, progress);
      else
        file->reserve(0, file->size());
      file->flush();
    });
    return result;
  }
  check_room((facts.blocks - std::min(facts.blocks, container->blocks_kept())) *
             facts.block_size.value());
  telling_outcome(host, image, [&] {
    Transaction transaction(host, {image}, {file.get()});
    Stage& stage = transaction.stage(0);
    stage.allow_direct({});
    const auto staged = open_container(stage, &resolver);
    staged->make_ready();
    staged->set_allocation(allocation);
    const auto again = open_container(stage, &resolver);
    Findings findings;
    again->audit(findings);
    if (!findings.clean() || again->facts().allocation != allocation)
      damaged("the result did not pass its proof", image, "please report this");
    compare_disks(*container, *again, progress);
    if (allocation == Allocation::full) stage.base().reserve(0, stage.size());
    transaction.seal(progress, /*keep_undo=*/true);
  });
  result.undoable = true;
  return result;
}

}  // namespace jh

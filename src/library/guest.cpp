#include <filesystem>
#include <nlohmann/json.hpp>

#include "core/base/version.h"
#include "core/report/report.h"
#include "library/command_text.h"
#include "library/inside.h"

namespace juneheath {
namespace {

jh::FileHost::Reach reach_of(const std::vector<std::string>& images, bool allow_outside) {
  jh::FileHost::Reach reach{{}, allow_outside};
  for (const std::string& image : images)
    for (const std::string& path : {image, jh::real_path(image)}) {
      const auto folder = std::filesystem::path(path).parent_path();
      reach.folders.push_back(folder.empty() ? "." : folder.string());
    }
  return reach;
}

}  // namespace

jh::FileHost host_for(const std::vector<std::string>& images, const OpenOptions& options) {
  return jh::FileHost(options.ledger_folder, reach_of(images, options.allow_outside));
}

Guest::Guest(std::vector<std::string> images, const OpenOptions& options)
    : inside_(std::make_unique<Inside>()) {
  inside_->images = std::move(images);
  inside_->options = options;
  translated([&] {
    if (inside_->images.empty()) jh::wrong_usage("no image is named");
    if (options.purpose == Purpose::change) {
      jh::FileHost host = host_for(inside_->images, options);
      jh::check_no_unfinished_change(host, inside_->images);
      // Locked first: what is looked at afterwards stays as it is until the seal.
      inside_->locks = jh::lock_images(host, inside_->images, {}, /*dry_run=*/false);
      jh::check_no_unfinished_change(host, inside_->images);
    }
    inside_->opened = jh::look_unlocked(inside_->images, [&] {
      return jh::open_guest({inside_->images,
                             options.ledger_folder,
                             reach_of(inside_->images, options.allow_outside),
                             options.sector_size,
                             {},
                             {}});
    });
  });
}
Guest::~Guest() = default;
Guest::Guest(Guest&&) noexcept = default;
Guest& Guest::operator=(Guest&&) noexcept = default;

const std::vector<std::string>& Guest::images() const { return inside_->images; }

std::string Guest::hostname() const { return inside_->opened.guest->hostname(); }

std::vector<Layer> Guest::layers() const {
  return translated([&] {
    std::vector<Layer> layers;
    for (const jh::LayerSize& size : jh::layer_sizes(*inside_->opened.guest)) {
      Layer layer{size.name, size.detail, size.size.value(), {}};
      if (size.free) layer.free = size.free->value();
      layers.push_back(std::move(layer));
    }
    return layers;
  });
}

std::vector<Advice> Guest::advice() const {
  return translated([&] {
    std::vector<Advice> all;
    for (const jh::SurveyAdvice& advice : jh::advice_for(*inside_->opened.guest))
      all.push_back({advice.what, advice.next.text(jh::command_text)});
    return all;
  });
}

std::string Guest::survey_json() const {
  return translated([&] {
    nlohmann::json document = jh::survey_json(*inside_->opened.guest, jh::command_text);
    document["schema"] = "juneheath/1";
    document["command"] = "survey";
    return document.dump(2, ' ', /*ensure_ascii=*/true, nlohmann::json::error_handler_t::replace);
  });
}

std::string version() { return jh::core_version(); }

}  // namespace juneheath

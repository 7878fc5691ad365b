#include "io/run_parts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <fstream>
#include <iterator>
#include <type_traits>

#include "io/files.hpp"
#include "photonlane/fractal/escape_plane.hpp"
#include "photonlane/io/runs.hpp"
#include "photonlane/plates/plate.hpp"
#include "photonlane/spheres/spheres.hpp"
#include "photonlane/voxels/voxels.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane::io {
namespace {

constexpr TallyCount counts[] = {
    {"lanes", &Tally::lanes},
    {"steps", &Tally::steps},
    {"hits", &Tally::hits},
    {"escaped", &Tally::escaped},
    {"spent", &Tally::spent},
    {"shadow_lanes", &Tally::shadow_lanes},
    {"bounces", &Tally::bounces},
    {"cut_bounces", &Tally::cut_bounces},
    {"crossings", &Tally::crossings},
    {"bent_steps", &Tally::bent_steps},
    {"secondary_steps", &Tally::secondary_steps},
    {"evaluations", &Tally::evaluations},
};

std::optional<double> number_or_none(const Json& json) {
  return json.is_null() ? std::nullopt : std::optional(json.get<double>());
}
Json to_json(const std::optional<double>& number) { return number ? Json(*number) : Json(); }

template <class Owner>
void add_knobs(std::span<const Knob<Owner>> table, const Owner& owner, Digest& digest) {
  for (const Knob<Owner>& entry : table) digest.add(knob_text(entry, owner));
}

/// Numbers of a kind without gaps, as they lie in memory.
template <class Numbers>
void add_numbers(const Numbers& numbers, Digest& digest) {
  using Value = std::remove_cvref_t<decltype(*numbers.data())>;
  digest.add(std::string_view(reinterpret_cast<const char*>(numbers.data()),
                              numbers.size() * sizeof(Value)));
}

void add_image(const PlateImage& image, Digest& digest) {
  if (image.values == nullptr) return;
  std::vector<float> row(static_cast<std::size_t>(image.size.width));
  for (int y = 0; y < image.size.height; ++y) {
    for (int x = 0; x < image.size.width; ++x) row[static_cast<std::size_t>(x)] = image.at(x, y);
    add_numbers(row, digest);
  }
}

/// What volumes and heights hold is read again: fields keep it in a form of their own.
void add_files(const Field& field, const std::string& folder, Digest& digest) {
  const bool from_file = field.kind() == FieldKind::volume || field.kind() == FieldKind::heights;
  if (from_file && field.source() != nullptr) {
    const std::string& name = field.source()->name();
    std::ifstream in(path_from(folder, name), std::ios::binary);
    const std::string bytes{std::istreambuf_iterator<char>(in), {}};
    digest.add(bytes);
  }
  for (const Field& part : field.parts()) add_files(part, folder, digest);
}

}  // namespace

std::span<const TallyCount> tally_counts() { return counts; }

Digest digest_of_scene(const SceneFile& file) {
  Digest digest;
  digest.add(PHOTONLANE_VERSION);
  digest.add(file.text);
  // What came from other files: those may be others by now.
  for (const Texture& texture : file.scene.textures) add_numbers(texture.texels.values(), digest);
  for (const Room& room : file.scene.rooms) {
    if (room.cells) add_numbers(room.cells->cells, digest);
    for (const Field& field : room.fields) add_files(field, folder_of(file.path), digest);
    for (const std::shared_ptr<const SolidPart>& part : room.parts) {
      if (const auto* const voxels = dynamic_cast<const Voxels*>(part.get())) {
        if (voxels->grid != nullptr) digest.add(voxels->grid->hash(), 0);
        continue;
      }
      if (const auto* const plate = dynamic_cast<const Plate*>(part.get())) {
        for (const PlateImage* image :
             {&plate->red, &plate->green, &plate->blue, &plate->alpha, &plate->depth}) {
          add_image(*image, digest);
        }
        continue;
      }
      const auto* const spheres = dynamic_cast<const Spheres*>(part.get());
      if (spheres != nullptr && spheres->parts != nullptr) {
        for (const SpherePart& one : spheres->parts->parts) digest.add(one.checksum, one.count);
      }
      if (spheres == nullptr || spheres->set == nullptr) continue;
      const SphereStore& store = spheres->set->store();
      digest.add(
          std::string_view(reinterpret_cast<const char*>(store.bytes()), store.arrays().bytes));
    }
  }
  for (const auto& [name, value] : file.numbers) {
    digest.add(name);
    digest.add(value);
  }
  for (const std::string& door : file.opened) digest.add(door);
  return digest;
}

void add_view(const Camera& camera, const Budget& budget, Digest& digest) {
  add_knobs(camera_knobs(), camera, digest);
  add_knobs(plane_window_knobs(), camera.window, digest);
  add_knobs(budget_knobs(), budget, digest);
}

Digest digest_of(const SceneFile& file) {
  Digest digest = digest_of_scene(file);
  add_view(file.camera, file.budget, digest);
  return digest;
}

void add_frame(const Frame& frame, Digest& digest) {
  const Size size = frame.size();
  digest.add(static_cast<std::uint64_t>(size.width), static_cast<std::uint64_t>(size.height));
  for (std::size_t i = 0; i < layer_count; ++i) {
    const auto layer = static_cast<Layer>(i);
    if (!frame.has(layer) || layer == Layer::display) continue;
    const LayerInfo& info = layer_info(layer);
    digest.add(name_of(layer));
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        for (int c = 0; c < info.channels; ++c) {
          digest.add(info.codes ? frame.codes(layer)(x, y)
                                : std::bit_cast<std::uint32_t>(frame.values(layer, c)(x, y)),
                     static_cast<std::uint64_t>(c));
        }
      }
    }
  }
}

Json maker_of(const SceneFile& file, std::span<const std::string_view> left_out) {
  Json budget = budget_object(file.budget);
  for (const std::string_view name : left_out) budget.erase(std::string(name));
  Json camera = Json::object();
  for (const auto& knob : camera_knobs()) {
    camera[std::string(knob.info.name)] = knob.read(file.camera, knob.info);
  }
  if (file.scene.plane) {
    for (const auto& knob : plane_window_knobs()) {
      camera[fmt::format("window.{}", knob.info.name)] = knob_text(knob, file.camera.window);
    }
  }
  return {{"version", PHOTONLANE_VERSION},
          {"scene", scene_digest(file)},
          {"camera", camera},
          {"budget", budget}};
}

std::string difference_of(const Json& kept, const Json& own) {
  for (const char* part : {"version", "scene"}) {
    if (kept.at(part) == own.at(part)) continue;
    if (std::string_view(part) == "scene") return "of another scene, or of files it names";
    return fmt::format("of version {}, this is {}", kept.at(part).get<std::string>(),
                       own.at(part).get<std::string>());
  }
  for (const char* part : {"camera", "budget"}) {
    for (const auto& [name, value] : own.at(part).items()) {
      const auto text = [](const Json& json) {
        return json.is_string() ? json.get<std::string>() : json.dump();
      };
      const Json before = kept.at(part).value(name, Json());
      if (before == value) continue;
      return fmt::format("with {}{} {}, this is {}",
                         part == std::string_view("camera") ? "camera." : "", name, text(before),
                         text(value));
    }
  }
  return "";
}

Json to_json(const Cost& cost) {
  return {{"compile_ms", cost.compile_ms},
          {"cast_ms", cost.cast_ms},
          {"fill_ms", cost.fill_ms},
          {"encode_ms", cost.encode_ms}};
}
Cost cost_from(const Json& json) {
  Cost cost;
  json.at("compile_ms").get_to(cost.compile_ms);
  json.at("cast_ms").get_to(cost.cast_ms);
  json.at("fill_ms").get_to(cost.fill_ms);
  json.at("encode_ms").get_to(cost.encode_ms);
  return cost;
}

Json to_json(const Tally& tally) {
  Json json = Json::object();
  for (const auto& [name, member] : counts) json[name] = tally.*member;
  return json;
}
Tally tally_from(const Json& json) {
  Tally tally;
  for (const auto& [name, member] : counts) json.at(name).get_to(tally.*member);
  return tally;
}

Json to_json(const PlaneReport& report) {
  return {{"number", std::string(name_of(report.number))},
          {"why", report.why},
          {"limit", report.limit},
          {"past_limit", report.past_limit},
          {"doubtful", report.doubtful},
          {"undecided", report.undecided},
          {"taken", report.taken},
          {"taken_error", report.taken_error}};
}
PlaneReport plane_report_from(const Json& json) {
  PlaneReport report;
  const auto& names = choice_names<PlaneNumber>;
  const auto number = std::find(names.begin(), names.end(), json.at("number").get<std::string>());
  if (number == names.end()) throw Error(ErrorKind::input, "a run of no known number type");
  report.number = static_cast<PlaneNumber>(number - names.begin());
  json.at("why").get_to(report.why);
  json.at("limit").get_to(report.limit);
  json.at("past_limit").get_to(report.past_limit);
  json.at("doubtful").get_to(report.doubtful);
  json.at("undecided").get_to(report.undecided);
  json.at("taken").get_to(report.taken);
  json.at("taken_error").get_to(report.taken_error);
  return report;
}

Json limits_object(const RunFacts& facts) {
  Json limits = Json::object();
  for (const Limit& limit : facts.limits) limits[std::string(limit.metric->name)] = limit.bound;
  if (facts.most_ms) limits["ms"] = *facts.most_ms;
  if (facts.most_p95_ms) limits["p95_ms"] = *facts.most_p95_ms;
  return limits;
}

Json metrics_object(const Difference& difference) {
  Json object;
  for (const Metric& metric : metrics()) {
    const auto value = metric.value(difference);
    object[std::string(metric.name)] = value ? Json(*value) : Json(nullptr);
  }
  object["largest_at"] = {difference.largest_x, difference.largest_y};
  return object;
}

Json stage_object(const Stage& stage) {
  return {{"lanes", std::string(name_of(stage.lanes))},
          {"work", std::string(name_of(stage.work))},
          {"ms", stage.ms},
          {"times", stage.times},
          {"count", stage.count}};
}

Json budget_object(const Budget& budget) {
  Json object;
  for (const Knob<Budget>& entry : budget_knobs()) {
    const std::string text = knob_text(entry, budget);
    const KnobKind kind = entry.info.kind;
    const bool number = kind == KnobKind::integer || kind == KnobKind::number;
    object[std::string(entry.info.name)] = number ? Json::parse(text) : Json(text);
  }
  return object;
}

Json to_json(const SweepPart& part) {
  if (part.timed) {
    return {{"total_ms", part.total_ms}, {"cast_ms", part.cast_ms},
            {"fill_ms", part.fill_ms},   {"cpu_ms", part.cpu_ms},
            {"p95_ms", part.p95_ms},     {"slowest_view", part.slowest_view}};
  }
  const Difference& error = part.error;
  return {{"tally", to_json(part.tally)},
          {"rmse", error.rmse},
          {"psnr", to_json(error.psnr)},
          {"ssim", error.ssim},
          {"largest", error.largest},
          {"largest_x", error.largest_x},
          {"largest_y", error.largest_y},
          {"share_other", to_json(error.share_other)},
          {"depth_median", to_json(error.depth_median)},
          {"depth_p99", to_json(error.depth_p99)},
          {"width", error.size.width},
          {"height", error.size.height}};
}
SweepPart sweep_part_from(const Json& json) {
  SweepPart part;
  part.timed = json.contains("total_ms");
  if (part.timed) {
    json.at("total_ms").get_to(part.total_ms);
    json.at("cast_ms").get_to(part.cast_ms);
    json.at("fill_ms").get_to(part.fill_ms);
    json.at("cpu_ms").get_to(part.cpu_ms);
    json.at("p95_ms").get_to(part.p95_ms);
    json.at("slowest_view").get_to(part.slowest_view);
    return part;
  }
  part.tally = tally_from(json.at("tally"));
  Difference& error = part.error;
  json.at("rmse").get_to(error.rmse);
  error.psnr = number_or_none(json.at("psnr"));
  json.at("ssim").get_to(error.ssim);
  json.at("largest").get_to(error.largest);
  json.at("largest_x").get_to(error.largest_x);
  json.at("largest_y").get_to(error.largest_y);
  error.share_other = number_or_none(json.at("share_other"));
  error.depth_median = number_or_none(json.at("depth_median"));
  error.depth_p99 = number_or_none(json.at("depth_p99"));
  json.at("width").get_to(error.size.width);
  json.at("height").get_to(error.size.height);
  return part;
}

}  // namespace photonlane::io

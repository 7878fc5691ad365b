#include "photonlane/io/keep.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <set>
#include <tuple>

#include "io/files.hpp"
#include "io/run_parts.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/machine.hpp"
#include "photonlane/io/output.hpp"
#include "photonlane/io/report.hpp"
#include "photonlane/measure/calibration.hpp"

namespace photonlane::io {
namespace {

constexpr int form = 1;

/// One scene as it is made again and again.
struct Subject {
  SceneRequest request;
  SceneFile file;
  std::optional<World> world;
  Frame frame;                ///< of colors
  std::vector<double> times;  ///< of threads, as multiples of a calibration run

  explicit Subject(SceneRequest wanted) : request(std::move(wanted)) {
    file = open_scene(request);
    try {
      world = compile(file.scene);
    } catch (const Error& error) {
      throw placed(file, error);
    }
  }

  Frame make(int threads) {
    RenderOptions options;
    options.layers = {Layer::color};
    options.threads = threads;
    try {
      return file.views.empty() ? render(*world, file.camera, file.budget, std::move(options))
                                : render_views(*world, file.views, file.budget, std::move(options));
    } catch (const Error& error) {
      throw placed(file, error);
    }
  }

  void time_once(int threads) {
    const double before = calibrate_ms();
    const Frame made = make(threads);
    const double after = calibrate_ms();
    const double worked = made.cost.stages.total_ms();
    const double spent = worked > 0 ? worked : made.cost.total_ms();
    times.push_back(spent / std::min(before, after));
  }
};

/// Makes all, and times them in turns.
void work_through(std::vector<Subject>& subjects, int threads, int repeats,
                  const std::function<bool(double)>& progress) {
  const double parts = static_cast<double>(subjects.size()) * (repeats + 1);
  double done = 0;
  const auto part_done = [&] {
    if (progress && !progress(++done / parts)) {
      throw Error(ErrorKind::cancelled, "stopped; nothing was kept or judged");
    }
  };
  for (Subject& subject : subjects) {
    subject.frame = subject.make(threads);
    part_done();
  }
  for (int round = 0; round < repeats; ++round) {
    for (Subject& subject : subjects) {
      subject.time_once(threads);
      part_done();
    }
  }
}

std::string picture_name(std::size_t i) { return fmt::format("picture-{:03}.exr", i + 1); }

bool same_colors(const Frame& a, const Frame& b) {
  if (a.size() != b.size()) return false;
  for (int channel = 0; channel < 3; ++channel) {
    for (int y = 0; y < a.size().height; ++y) {
      const auto one = a.values(Layer::color, channel).row(y);
      const auto two = b.values(Layer::color, channel).row(y);
      const auto same = [](float x, float z) {
        return std::bit_cast<std::uint32_t>(x) == std::bit_cast<std::uint32_t>(z);
      };
      if (!std::equal(one.begin(), one.end(), two.begin(), same)) return false;
    }
  }
  return true;
}

/// The count that differs most from what it was, and how many times it is that.
std::pair<std::string, double> work_change(const Tally& before, const Tally& now) {
  std::string name;
  double most = 1;
  for (const auto& [count, member] : tally_counts()) {
    const auto old = static_cast<double>(before.*member);
    const auto fresh = static_cast<double>(now.*member);
    if (old == fresh) continue;
    const double times = fresh / std::max(old, 1.0);
    // What only a few lanes did does not tell.
    if (std::max(old, fresh) < 1e-4 * static_cast<double>(now.lanes)) continue;
    if (!name.empty() &&
        std::abs(std::log(std::max(times, 1e-9))) <= std::abs(std::log(std::max(most, 1e-9)))) {
      continue;
    }
    name = count;
    most = times;
  }
  return {name, most};
}

Json read_kept(const std::string& folder) {
  const std::string path = folder + "/kept.json";
  const std::string text = read_file(path);
  try {
    Json json = Json::parse(text);
    const int found = json.at("form").get<int>();
    if (found != form) {
      throw Error(ErrorKind::input,
                  fmt::format("{}: of form {}, expected {}; keep it anew", path, found, form));
    }
    json.at("scenes").size();
    return json;
  } catch (const Json::exception& problem) {
    throw Error(ErrorKind::input,
                fmt::format("{}: damaged or cut short: {}", path, problem.what()));
  }
}

}  // namespace

void keep(const std::vector<SceneRequest>& scenes, const std::string& folder,
          const KeepOptions& options) {
  if (scenes.empty()) throw Error(ErrorKind::usage, "no scene to keep, expected at least one");
  const OutputFolder made(folder);
  std::vector<Subject> subjects;
  subjects.reserve(scenes.size());
  std::set<std::string> paths;
  for (const SceneRequest& scene : scenes) {
    if (!paths.insert(scene.path).second) {
      throw Error(ErrorKind::usage, fmt::format("{} is there twice", scene.path));
    }
    subjects.emplace_back(scene);
  }
  work_through(subjects, options.threads, options.repeats, options.progress);
  made.remove_numbered("picture-", ".exr");
  Json all{{"form", form},
           {"version", PHOTONLANE_VERSION},
           {"machine", options.repeats > 0 ? machine_name() : ""},
           {"date", date_text()},
           {"threads", options.threads},
           {"scenes", Json::array()}};
  for (std::size_t i = 0; i < subjects.size(); ++i) {
    Subject& subject = subjects[i];
    write_frame(folder + "/" + picture_name(i), subject.frame);
    all["scenes"].push_back({{"scene", subject.request.path},
                             {"size", subject.request.size},
                             {"sets", subject.request.sets},
                             {"doors", subject.request.doors},
                             {"picture", picture_name(i)},
                             {"tally", to_json(subject.frame.tally)},
                             {"times", subject.times},
                             {"budget", budget_object(subject.frame.budget)}});
  }
  write_file(folder + "/kept.json", json_text(all));
}

std::vector<Judgement> judge(const std::string& folder, const JudgeOptions& options) {
  const Json all = read_kept(folder);
  std::vector<Subject> subjects;
  std::vector<std::string> pictures;
  bool other_machine = false;
  std::vector<std::vector<double>> times;
  std::vector<Tally> tallies;
  try {
    other_machine = all.at("machine").get<std::string>() != machine_name();
    for (const Json& one : all.at("scenes")) {
      const std::string picture = one.at("picture").get<std::string>();
      if (picture.find('/') != std::string::npos) {
        throw Error(ErrorKind::input,
                    fmt::format("{}/kept.json: a picture outside the folder", folder));
      }
      pictures.push_back(folder + "/" + picture);
      times.push_back(one.at("times").get<std::vector<double>>());
      tallies.push_back(tally_from(one.at("tally")));
      subjects.emplace_back(SceneRequest{one.at("scene").get<std::string>(),
                                         one.at("size").get<std::string>(),
                                         one.at("sets").get<std::vector<std::string>>(),
                                         one.at("doors").get<std::vector<std::string>>()});
    }
  } catch (const Json::exception& problem) {
    throw Error(ErrorKind::input,
                fmt::format("{}/kept.json: damaged or cut short: {}", folder, problem.what()));
  }
  if (subjects.empty()) throw Error(ErrorKind::input, fmt::format("{}: no scene was kept", folder));
  std::vector<std::shared_ptr<const Frame>> kept;
  for (const std::string& picture : pictures) {
    kept.push_back(std::make_shared<const Frame>(read_frame(picture)));
  }
  work_through(subjects, options.threads, options.repeats, options.progress);
  std::vector<Judgement> judgements;
  for (std::size_t i = 0; i < subjects.size(); ++i) {
    Subject& subject = subjects[i];
    Judgement& own = judgements.emplace_back();
    own.scene = subject.request.path;
    own.kept = kept[i];
    own.made = std::make_shared<const Frame>(std::move(subject.frame));
    own.same_picture = same_colors(*own.kept, *own.made);
    if (!own.same_picture) {
      own.picture_holds = false;
      if (own.kept->size() == own.made->size()) {
        own.difference = compare(*own.made, *own.kept);
        own.difference->errors = {};
        own.picture_holds =
            !options.limits.empty() &&
            std::all_of(options.limits.begin(), options.limits.end(),
                        [&](const Limit& limit) { return holds(limit, *own.difference); });
      }
    }
    std::tie(own.most_work, own.work) = work_change(tallies[i], own.made->tally);
    own.work_holds = own.work <= 1 + options.more_work;
    own.other_machine = other_machine;
    if (subject.times.empty() || times[i].empty()) continue;
    own.timed = true;
    const double before = quantile(times[i], 0.5);
    own.time = quantile(subject.times, 0.5) / before;
    const Interval old = interval_of_median(times[i]);
    const Interval fresh = interval_of_median(subject.times);
    own.time_interval = {fresh.low / std::max(old.high, 1e-12),
                         fresh.high / std::max(old.low, 1e-12)};
    own.time_holds = other_machine || own.time_interval.low <= 1 + options.slower;
  }
  return judgements;
}

std::string judgement_line(const Judgement& own) {
  std::string picture = "same picture";
  if (own.difference) {
    picture =
        fmt::format("picture off by rmse {:.3g}, most at pixel {}, {} by {:.3g}{}",
                    own.difference->rmse, own.difference->largest_x, own.difference->largest_y,
                    own.difference->largest, own.picture_holds ? "" : " !");
  } else if (!own.same_picture) {
    picture = "picture of another size !";
  }
  std::string work = "same work";
  if (!own.most_work.empty()) {
    work = fmt::format("{} {:.3g} times{}", own.most_work, own.work, own.work_holds ? "" : " !");
  }
  std::string time;
  if (own.timed) {
    const bool unclear = own.time_interval.low <= 1 && own.time_interval.high >= 1;
    time = fmt::format(", time {:.2f} times ({:.2f} to {:.2f}){}{}", own.time,
                       own.time_interval.low, own.time_interval.high,
                       own.other_machine ? ", on another machine"
                       : unclear         ? ", which is noise"
                                         : "",
                       own.time_holds ? "" : " !");
  }
  return fmt::format("{}: {}, {}{}", own.scene, picture, work, time);
}

std::string judgements_json(const std::vector<Judgement>& judgements) {
  Json list = Json::array();
  for (const Judgement& own : judgements) {
    Json one{{"scene", own.scene},
             {"same_picture", own.same_picture},
             {"picture_holds", own.picture_holds},
             {"work", own.work},
             {"most_work", own.most_work},
             {"work_holds", own.work_holds},
             {"holds", own.holds()}};
    if (own.difference) one["rmse"] = own.difference->rmse;
    if (own.timed) {
      one["time"] = own.time;
      one["time_interval"] = {own.time_interval.low, own.time_interval.high};
      one["time_holds"] = own.time_holds;
      one["other_machine"] = own.other_machine;
    }
    list.push_back(std::move(one));
  }
  return json_text({{"scenes", std::move(list)}});
}

}  // namespace photonlane::io

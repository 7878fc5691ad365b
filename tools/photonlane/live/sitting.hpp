#pragma once

#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <functional>
#include <memory>
#include <mutex>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "live/desk.hpp"
#include "live/pace.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::live {

using Json = nlohmann::ordered_json;
using Clock = std::chrono::steady_clock;

/// What is wrong with a text, as docs/live.md says.
Json trouble_facts(const Trouble& trouble);

/// A picture as it is sent.
struct Shown {
  std::uint64_t number = 0;
  std::string bytes;
  std::string type;  ///< "image/jpeg" or "image/png"
  Json facts;        ///< what it is and what it cost, as docs/live.md says
};

/// What moves the eye while keys are held, in shares of full speed.
struct Drive {
  double ahead = 0, right = 0, up = 0;
  double turn = 0, tilt = 0;  ///< to the left, and upward
  bool any() const { return ahead != 0 || right != 0 || up != 0 || turn != 0 || tilt != 0; }
};

/// Knobs by name with other values than the file says.
using Changes = std::vector<std::pair<std::string, std::string>>;

/// A setting that was tried: its price, and how wrong it is.
struct Tried {
  Changes changed;
  Settings settings;
  std::vector<double> ms;  ///< of whole frames
  std::optional<Difference> error;
  std::optional<double> noise;  ///< RMSE that is left, as light that goes by paths tells it
};

/// What one open page looks at: a camera and knobs of its own, and a thread that makes its
/// pictures. All calls may come from any thread; pixel(), find(), lane() and still() take as long
/// as what they make, next() as long as it is told, all others a moment.
class Sitting {
 public:
  struct Stand;  ///< all that a picture is made of, as it stood at one moment

  Sitting(std::shared_ptr<Desk> desk, int threads);
  ~Sitting();
  Sitting(const Sitting&) = delete;
  Sitting& operator=(const Sitting&) = delete;

  /// Does what a page asks for, one after the other: see docs/live.md. Those that cannot be done
  /// are told in "refused", and the others are done.
  Json act(const Json& acts);
  /// The newest picture if it is newer than `after`; waits for one up to so many seconds.
  std::shared_ptr<const Shown> next(std::uint64_t after, double seconds);
  /// What is made just now, in few words.
  Json progress() const;
  /// All knobs that have an effect on this scene, with what they stand at.
  Json knobs() const;
  /// Camera, changes, what was tried, and what is wrong with the scene's text.
  Json state() const;
  /// What a pixel shows, by all its layers; x and y from 0 to 1 over the picture.
  Json pixel(double x, double y) const;
  /// The nearest landmark of a plane in what is shown, and the window that shows it. Throws Error
  /// (input) where there is none.
  Json find(LandmarkKind kind);
  /// What the lanes of a pixel did, in words.
  Json lane(double x, double y) const;
  io::Picture lane_plan(double x, double y) const;
  /// The picture of some settings from where the eye is now. Stops early when the sitting ends.
  Frame still(const Changes& changed, LayerSet layers);
  /// The picture that is shown, in full.
  Frame still(LayerSet layers);
  /// How wrong each pixel of what is shown is, as a PNG. Throws Error (usage) where that is not
  /// known.
  std::string difference() const;
  /// The way that was gone since the page was opened, as a walk script.
  std::string walk_script() const;
  /// The page of results of what was tried. Throws Error (usage) where nothing was.
  std::string report() const;
  /// The file's camera as it stands now, and the changed knobs, as they stand in a scene file.
  std::string camera_text() const;
  std::string budget_text() const;
  /// Writes the changed knobs into the scene's file. Throws what Desk::write_knobs() throws.
  void write_budget() const;
  void write_camera() const;

  /// Whoever waits for a picture waits no longer, and no other is made.
  void end();
  /// The text was changed.
  void look_again();
  double idle_seconds() const;
  std::shared_ptr<Desk> desk() const { return desk_; }

 private:
  // With the lock held.
  void apply(const Json& act);
  /// Acts on knobs and on what the page is told; false where it is no such act.
  bool apply_to_settings(const std::string& what, const Json& value);
  /// Acts that move the camera or the window; false where it is no such act.
  bool apply_to_eye(const std::string& what, const Json& value);
  void set(const std::string& name, const std::string& value, bool turning);
  void keep_for_undo();
  void tell();
  void go_to(const Camera& camera);
  void changed();
  void take_scene();
  void remember(const WalkMove& move);
  Changes changes_of(const Settings& settings) const;
  Stand stand_held() const;
  Tried& tried_of(const Stand& stand);
  bool moving() const;

  // Without it.
  Stand stand_now() const;
  World world_of(const Stand& stand) const;
  Frame frame_of(const Stand& stand, Budget budget, LayerSet layers,
                 std::function<bool(double share)> progress, Frame recycle = {}) const;
  void work();
  void make(bool moves, const Stand& stand);
  void advance();
  /// False where it came too late.
  bool show_rough(const Stand& stand, Size size);
  void make_still(const Stand& stand);
  void make_growing(const Stand& stand);
  void repeat(const Stand& stand);
  void measure(const Stand& stand);
  Frame whole_frame_of(const Stand& stand, const std::string& doing);
  Frame small_frame_of(const Stand& stand, Size size);
  void publish(const Stand& stand, Frame& frame, bool whole, bool last);
  std::function<bool(double share)> until_over(const Stand& stand, const std::string& doing);
  void say(const std::string& doing, double share);
  bool is_over(const Stand& stand) const;

  std::shared_ptr<Desk> desk_;
  int threads_;

  mutable std::mutex mutex_;
  std::condition_variable asked_, made_;
  std::shared_ptr<const OpenScene> scene_;
  Settings settings_, base_;  ///< as they stand, and as the file has them
  std::vector<Settings> before_;
  std::string turning_;  ///< the knob whose slider is held
  Size size_{640, 400};
  Layer layer_ = Layer::color;
  double frame_ms_ = 33;
  int quality_ = 80;
  bool flying_ = false, measuring_ = true;
  double speed_ = 1.5;
  Drive drive_;
  double body_scale_ = 1;
  std::uint64_t version_ = 1;  ///< counts changes of what is shown
  std::uint64_t state_ = 1;    ///< counts changes of what state() tells
  Clock::time_point moved_{};  ///< last
  Clock::time_point heard_ = Clock::now();
  Clock::time_point advanced_{};
  bool closing_ = false;
  std::shared_ptr<const Shown> shown_;
  std::uint64_t number_ = 0;  ///< of the newest picture
  std::uint64_t taken_ = 0;   ///< of the last one that was asked for
  int waiting_ = 0;           ///< requests for a picture
  std::string doing_;
  double doing_share_ = 0;
  std::string problem_;
  std::vector<Tried> tried_;
  std::string difference_;
  std::uint64_t difference_of_ = 0;
  std::string view_;  ///< what the tried ones were seen by
  Camera start_;      ///< where the way that was gone begins
  std::vector<WalkMove> moves_;

  // Of the working thread alone.
  Pace pace_;
  Frame spare_;
  std::string paced_;          ///< what the pace is of
  std::uint64_t settled_ = 0;  ///< the version whose picture is done, measured and all
  std::optional<Frame> truth_;
  std::string truth_of_;

  std::mutex still_mutex_;
  // Of the numbers that were asked for last, where they are not the file's.
  mutable std::mutex world_mutex_;
  mutable SceneNumbers world_numbers_;
  mutable std::uint64_t world_version_ = 0;
  mutable std::optional<World> world_;

  std::thread worker_;
};

}  // namespace photonlane::live

#pragma once

#include <condition_variable>
#include <cstdint>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::live {

/// A scene as it was compiled from one text.
struct OpenScene {
  io::SceneFile file;
  World world;
  std::uint64_t version = 0;
};

/// What a text could not be compiled for.
struct Trouble {
  std::string message;  ///< with its place
  int line = 0;         ///< 0: not known
  int column = 0;
};

/// A scene file that pages look at: compiled again when its text changes, on disk or by a page. The
/// last scene that could be compiled stays.
class Desk {
 public:
  /// Reads and compiles. Throws what open_scene() and compile() throw.
  Desk(io::SceneRequest request, bool may_write);
  ~Desk();
  Desk(const Desk&) = delete;
  Desk& operator=(const Desk&) = delete;

  std::shared_ptr<const OpenScene> scene() const;
  /// The text that pages edit, whether it compiles or not, and what is wrong with it.
  std::string text() const;
  std::optional<Trouble> trouble() const;
  std::uint64_t version() const;  ///< counts texts, with those that do not compile
  bool may_write() const { return may_write_; }
  const std::string& path() const { return request_.path; }

  /// Takes another text, and writes it to the file where that is allowed; tells what is wrong with
  /// it. Throws Error (file) where the file was changed by somebody else since the text `version`
  /// or cannot be written, Error (input) for a text of over 4 MiB; nothing is taken then.
  std::optional<Trouble> take_text(const std::string& text, std::uint64_t version);
  /// Puts knobs of the budget into the file's text. Throws Error (usage) where that is not allowed,
  /// Error (file) where the file is not what the last good scene was made of, and what
  /// io::write_budget() throws.
  void write_knobs(const std::vector<std::pair<std::string, std::string>>& changed);
  /// The same for a camera.
  void write_camera(const Camera& camera);

  /// Told, from another thread, after each change.
  void watch(std::function<void()> changed);

 private:
  std::optional<Trouble> take(const std::string& text);
  /// The scene as its file has it, where that may be written.
  io::SceneFile file_to_write() const;
  [[noreturn]] void refuse_to_write(const std::string& why) const;
  /// Takes the file's text where it is another one; by whoever has taking_.
  void follow_file();
  void look_at_disk();
  void keep_watch();

  io::SceneRequest request_;
  bool may_write_;
  mutable std::mutex mutex_;
  std::mutex taking_;  ///< one text at a time is compiled
  std::condition_variable wake_;
  std::shared_ptr<const OpenScene> scene_;
  std::string text_;
  std::string on_disk_;  ///< the file's text when it was last read or written
  std::optional<Trouble> trouble_;
  std::uint64_t version_ = 1;
  std::function<void()> changed_;
  bool closing_ = false;
  std::thread watcher_;
};

}  // namespace photonlane::live

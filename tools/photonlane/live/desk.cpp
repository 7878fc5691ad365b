#include "live/desk.hpp"

#include <chrono>
#include <filesystem>
#include <fstream>
#include <utility>

namespace photonlane::live {
namespace {

namespace fs = std::filesystem;
constexpr std::size_t most_text = std::size_t{4} << 20;
constexpr auto look_every = std::chrono::milliseconds(300);

/// The file's text, or nothing where it cannot be read just now.
std::optional<std::string> text_of_file(const std::string& path) {
  std::ifstream stream(path, std::ios::binary);
  if (!stream) return std::nullopt;
  std::string text(most_text + 1, '\0');
  stream.read(text.data(), static_cast<std::streamsize>(text.size()));
  text.resize(static_cast<std::size_t>(stream.gcount()));
  if (text.size() > most_text) return std::nullopt;
  return text;
}

/// What a file says, compiled; `before` is the scene that it was, if there was one.
std::shared_ptr<const OpenScene> compiled(io::SceneFile file, const OpenScene* before,
                                          std::uint64_t version) {
  try {
    World world = before == nullptr ? compile(file.scene) : compile(file.scene, before->world);
    return std::make_shared<OpenScene>(OpenScene{std::move(file), std::move(world), version});
  } catch (const Error& error) {
    throw io::placed(file, error);
  }
}

}  // namespace

Desk::Desk(io::SceneRequest request, bool may_write)
    : request_(std::move(request)), may_write_(may_write) {
  scene_ = compiled(io::open_scene(request_), nullptr, version_);
  text_ = on_disk_ = scene_->file.text;
  watcher_ = std::thread([this] { keep_watch(); });
}

Desk::~Desk() {
  {
    const std::lock_guard lock(mutex_);
    closing_ = true;
  }
  wake_.notify_all();
  watcher_.join();
}

std::shared_ptr<const OpenScene> Desk::scene() const {
  const std::lock_guard lock(mutex_);
  return scene_;
}
std::string Desk::text() const {
  const std::lock_guard lock(mutex_);
  return text_;
}
std::optional<Trouble> Desk::trouble() const {
  const std::lock_guard lock(mutex_);
  return trouble_;
}
std::uint64_t Desk::version() const {
  const std::lock_guard lock(mutex_);
  return version_;
}

void Desk::watch(std::function<void()> changed) {
  const std::lock_guard lock(mutex_);
  changed_ = std::move(changed);
}

std::optional<Trouble> Desk::take(const std::string& text) {
  std::optional<Trouble> trouble;
  std::shared_ptr<const OpenScene> made;
  const std::uint64_t next = version() + 1;  // none but who has taking_ changes it
  try {
    made =
        compiled(io::set_up(io::parse_scene(text, request_.path), request_), scene().get(), next);
  } catch (const Error& error) {
    trouble = Trouble{error.what(), error.place().line, error.place().column};
  } catch (const std::bad_alloc&) {
    trouble = Trouble{"out of memory", 0, 0};
  }
  std::function<void()> changed;
  {
    const std::lock_guard lock(mutex_);
    text_ = text;
    trouble_ = trouble;
    version_ = next;
    if (made) scene_ = std::move(made);
    changed = changed_;
  }
  if (changed) changed();
  return trouble;
}

std::optional<Trouble> Desk::take_text(const std::string& text, std::uint64_t version) {
  const std::lock_guard one_at_a_time(taking_);
  if (text.size() > most_text) {
    throw Error(ErrorKind::input, "the text is longer than 4 MiB", Place{request_.path});
  }
  if (may_write_) {
    const auto now = text_of_file(request_.path);
    bool changed = false;
    {
      const std::lock_guard lock(mutex_);
      changed = version != version_ || (now && *now != on_disk_);
    }
    if (changed) refuse_to_write("was changed by somebody else meanwhile");
    io::write_file(request_.path, text);
    const std::lock_guard lock(mutex_);
    on_disk_ = text;
  }
  return take(text);
}

io::SceneFile Desk::file_to_write() const {
  if (!may_write_) {
    throw Error(ErrorKind::usage,
                "the tool was started without --write, so files stay as they are");
  }
  // As the file is read, without what was set beside it.
  io::SceneFile file = io::parse_scene(scene()->file.text, request_.path);
  if (text_of_file(request_.path) != file.text) {
    refuse_to_write("is not what is shown: somebody else changed it, or it does not compile");
  }
  return file;
}

void Desk::write_knobs(const std::vector<std::pair<std::string, std::string>>& changed) {
  const std::lock_guard one_at_a_time(taking_);
  const io::SceneFile file = file_to_write();
  Budget budget = file.budget;
  for (const auto& [name, value] : changed) {
    if (find_knob(budget_knobs(), name) != nullptr) set_knob(budget_knobs(), budget, name, value);
  }
  io::write_budget(file, budget);
  follow_file();
}

void Desk::write_camera(const Camera& camera) {
  const std::lock_guard one_at_a_time(taking_);
  io::write_camera(file_to_write(), camera);
  follow_file();
}

void Desk::refuse_to_write(const std::string& why) const {
  throw Error(ErrorKind::file, why + "; nothing was written", Place{request_.path});
}

void Desk::look_at_disk() {
  const std::lock_guard one_at_a_time(taking_);
  follow_file();
}

void Desk::follow_file() {
  const auto now = text_of_file(request_.path);
  {
    const std::lock_guard lock(mutex_);
    if (!now || *now == on_disk_) return;
    on_disk_ = *now;
  }
  take(*now);
}

void Desk::keep_watch() {
  fs::file_time_type seen{};
  std::uintmax_t size = 0;
  std::unique_lock lock(mutex_);
  while (!wake_.wait_for(lock, look_every, [this] { return closing_; })) {
    lock.unlock();
    std::error_code problem;
    const auto time = fs::last_write_time(request_.path, problem);
    const auto bytes = fs::file_size(request_.path, problem);
    if (!problem && (time != seen || bytes != size)) {
      seen = time;
      size = bytes;
      look_at_disk();
    }
    lock.lock();
  }
}

}  // namespace photonlane::live

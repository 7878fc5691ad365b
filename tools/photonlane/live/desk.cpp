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

}  // namespace

Desk::Desk(io::SceneRequest request, bool may_write)
    : request_(std::move(request)), may_write_(may_write) {
  const auto file = io::open_scene(request_);
  text_ = on_disk_ = file.text;
  scene_ = std::make_shared<OpenScene>(OpenScene{file, compile(file.scene), version_});
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

std::shared_ptr<const OpenScene> Desk::compile_text(const std::string& text) {
  io::SceneFile file = io::set_up(io::parse_scene(text, request_.path), request_);
  World world = [&] {
    try {
      return compile(file.scene, scene()->world);
    } catch (const Error& error) {
      throw io::placed(file, error);
    }
  }();
  return std::make_shared<OpenScene>(OpenScene{std::move(file), std::move(world), 0});
}

void Desk::take(const std::string& text) {
  std::optional<Trouble> trouble;
  std::shared_ptr<const OpenScene> made;
  std::optional<Error> refused;
  try {
    made = compile_text(text);
  } catch (const Error& error) {
    trouble = Trouble{error.what(), error.place().line, error.place().column};
    refused = error;
  }
  std::function<void()> changed;
  {
    const std::lock_guard lock(mutex_);
    text_ = text;
    trouble_ = trouble;
    version_ += 1;
    if (made) {
      auto numbered = std::make_shared<OpenScene>(*made);
      numbered->version = version_;
      scene_ = std::move(numbered);
    }
    changed = changed_;
  }
  if (changed) changed();
  if (refused) throw Error(*refused);
}

void Desk::take_text(const std::string& text, std::uint64_t version) {
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
    if (changed) {
      throw Error(ErrorKind::file, "was changed by somebody else meanwhile; nothing was written",
                  Place{request_.path});
    }
    io::write_file(request_.path, text);
    const std::lock_guard lock(mutex_);
    on_disk_ = text;
  }
  take(text);
}

void Desk::look_at_disk() {
  const std::lock_guard one_at_a_time(taking_);
  const auto now = text_of_file(request_.path);
  {
    const std::lock_guard lock(mutex_);
    if (!now || *now == on_disk_) return;
    on_disk_ = *now;
  }
  try {
    take(*now);
  } catch (const Error&) {
    // It stands in trouble_.
  }
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

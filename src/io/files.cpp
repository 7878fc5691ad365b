#include "io/files.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cctype>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include "photonlane/base/error.hpp"
#include "photonlane/io/output.hpp"

namespace photonlane::io {
namespace {

namespace fs = std::filesystem;

[[noreturn]] void refuse(const std::string& path, const std::string& what) {
  throw Error(ErrorKind::file, what, Place{path});
}

[[noreturn]] void refuse_writing(const std::string& path, int code) {
  refuse(path, fmt::format("cannot be written: {}", std::strerror(code)));
}

/// A file descriptor that is closed whatever happens.
class Descriptor {
 public:
  explicit Descriptor(int number) : number_(number) {}
  ~Descriptor() {
    if (number_ >= 0) close(number_);
  }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  int number() const { return number_; }
  int close_now() {
    const int number = number_;
    number_ = -1;
    return close(number);
  }

 private:
  int number_;
};

/// Names that a signal handler can remove: no lock, no allocation while it looks.
class Unfinished {
 public:
  /// A slot for the name, or -1 where all are taken.
  static int add(const std::string& name) {
    char* copy = strdup(name.c_str());
    if (copy == nullptr) return -1;
    for (std::size_t i = 0; i < slots_.size(); ++i) {
      char* none = nullptr;
      if (slots_[i].compare_exchange_strong(none, copy)) return static_cast<int>(i);
    }
    std::free(copy);
    return -1;
  }
  static void forget(int slot) {
    if (slot >= 0) std::free(slots_[static_cast<std::size_t>(slot)].exchange(nullptr));
  }
  static void remove_all() noexcept {
    // Files first, since the folders among the names can only be removed when they are empty.
    for (std::atomic<char*>& slot : slots_) {
      if (const char* name = slot.load()) unlink(name);
    }
    for (std::atomic<char*>& slot : slots_) {
      if (const char* name = slot.load()) rmdir(name);
    }
  }

 private:
  static inline std::array<std::atomic<char*>, 256> slots_{};
};

/// Where a file is in the end, through all links; the path itself where nothing is there yet.
std::string link_target(const std::string& path) {
  fs::path at = path;
  constexpr int most_links = 40;
  for (int links = 0; links < most_links; ++links) {
    std::error_code problem;
    if (!fs::is_symlink(fs::symlink_status(at, problem))) return at.string();
    const fs::path to = fs::read_symlink(at, problem);
    if (problem) return path;
    at = to.is_absolute() ? to : at.parent_path() / to;
  }
  throw Error(ErrorKind::file, "is a link that leads around to itself", Place{path});
}

}  // namespace

std::string read_file(const std::string& path, std::size_t most) {
  const Descriptor file(open(path.c_str(), O_RDONLY | O_CLOEXEC));
  struct stat status {};
  if (file.number() < 0 || fstat(file.number(), &status) != 0) {
    refuse(path, fmt::format("cannot be read: {}", std::strerror(errno)));
  }
  if (S_ISDIR(status.st_mode)) refuse(path, "is a folder, expected a file");
  if (S_ISCHR(status.st_mode) || S_ISBLK(status.st_mode)) {
    refuse(path, "is a device, expected a file");
  }
  const auto too_long = [&] {
    refuse(path, fmt::format("has more than {} bytes, the most that is read", most));
  };
  if (S_ISREG(status.st_mode) && static_cast<std::size_t>(status.st_size) > most) too_long();
  std::string bytes;
  if (S_ISREG(status.st_mode)) bytes.reserve(static_cast<std::size_t>(status.st_size) + 1);
  constexpr std::size_t part = 1 << 16;
  for (;;) {
    const std::size_t before = bytes.size();
    bytes.resize(before + part);
    const ssize_t count = read(file.number(), bytes.data() + before, part);
    if (count < 0 && errno == EINTR) {
      bytes.resize(before);
      continue;
    }
    if (count < 0) refuse(path, fmt::format("cannot be read: {}", std::strerror(errno)));
    bytes.resize(before + static_cast<std::size_t>(count));
    if (count == 0) return bytes;
    if (bytes.size() > most) too_long();
  }
}

void write_whole(const std::string& path, const std::function<void(const std::string&)>& write) {
  const std::string target = link_target(path);
  struct stat status {};
  const bool exists = stat(target.c_str(), &status) == 0;
  if (exists && S_ISDIR(status.st_mode)) refuse(path, "is a folder, expected a file");
  if (exists && !S_ISREG(status.st_mode)) {
    write(target);
    return;
  }
  // A short name of its own: with the target's in it, long names would not fit.
  static std::atomic<unsigned> count{0};
  const std::string temporary =
      fmt::format("{}.photonlane-{}-{}.part", folder_of(target), getpid(), count++);
  const int slot = Unfinished::add(temporary);
  try {
    {
      const Descriptor made(open(temporary.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666));
      if (made.number() < 0) refuse_writing(path, errno);
    }
    write(temporary);
    if (exists) chmod(temporary.c_str(), status.st_mode & 07777);
    if (std::rename(temporary.c_str(), target.c_str()) != 0) refuse_writing(path, errno);
  } catch (const Error& error) {
    unlink(temporary.c_str());
    Unfinished::forget(slot);
    // The temporary name does not belong into messages.
    if (error.place().file == temporary) throw error.at(Place{path});
    throw;
  } catch (...) {
    unlink(temporary.c_str());
    Unfinished::forget(slot);
    throw;
  }
  Unfinished::forget(slot);
}

void write_file(const std::string& path, std::string_view bytes) {
  write_whole(path, [&](const std::string& temporary) {
    Descriptor file(open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666));
    if (file.number() < 0) refuse_writing(path, errno);
    while (!bytes.empty()) {
      const ssize_t count = ::write(file.number(), bytes.data(), bytes.size());
      if (count < 0 && errno == EINTR) continue;
      if (count < 0) refuse_writing(path, errno);
      bytes.remove_prefix(static_cast<std::size_t>(count));
    }
    if (file.close_now() != 0) refuse_writing(path, errno);
  });
}

void make_folder(const std::string& path) {
  std::error_code problem;
  fs::create_directories(path, problem);
  if (problem) {
    refuse(path, fmt::format("folder cannot be made: {}", problem.message()));
  }
  if (access(path.c_str(), W_OK) != 0) {
    refuse(path, fmt::format("folder cannot be written: {}", std::strerror(errno)));
  }
}

std::string folder_of(const std::string& path) {
  const auto slash = path.find_last_of('/');
  return slash == std::string::npos ? "" : path.substr(0, slash + 1);
}

std::string path_from(const std::string& folder, const std::string& name) {
  return name.starts_with('/') ? name : folder + name;
}

bool ends_with(std::string_view path, std::string_view ending) {
  if (path.size() < ending.size()) return false;
  return std::equal(ending.begin(), ending.end(), path.end() - ending.size(), [](char a, char b) {
    return std::tolower(static_cast<unsigned char>(a)) ==
           std::tolower(static_cast<unsigned char>(b));
  });
}

void check_output(const std::string& path, std::initializer_list<std::string_view> endings) {
  const auto fits = [&](std::string_view ending) { return ends_with(path, ending); };
  if (endings.size() > 0 && std::none_of(endings.begin(), endings.end(), fits)) {
    std::string list;
    for (const std::string_view ending : endings) {
      if (!list.empty()) list += ending == *(endings.end() - 1) ? " or " : ", ";
      list += ending;
    }
    throw Error(ErrorKind::usage, fmt::format("expected a name that ends in {}", list),
                Place{path});
  }
  const std::string target = link_target(path);
  const std::string parent = folder_of(target);
  const char* folder = parent.empty() ? "." : parent.c_str();
  struct stat status {};
  if (stat(folder, &status) != 0) refuse_writing(path, errno);
  if (!S_ISDIR(status.st_mode)) refuse_writing(path, ENOTDIR);
  if (stat(target.c_str(), &status) == 0) {
    if (S_ISDIR(status.st_mode)) refuse(path, "is a folder, expected a file");
    if (!S_ISREG(status.st_mode)) return;
  } else if (errno != ENOENT) {
    refuse_writing(path, errno);
  }
  if (access(folder, W_OK | X_OK) != 0) refuse_writing(path, errno);
}

OutputFolder::OutputFolder(std::string path) : path_(std::move(path)), is_new_(!fs::exists(path_)) {
  make_folder(path_);
  if (is_new_) slot_ = Unfinished::add(path_);
}

OutputFolder::~OutputFolder() {
  Unfinished::forget(slot_);
  std::error_code not_empty;
  if (is_new_) fs::remove(path_, not_empty);
}

void OutputFolder::remove_numbered(std::string_view stem, std::string_view ending) const {
  std::vector<fs::path> old;
  for (const fs::directory_entry& entry : fs::directory_iterator(path_)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with(stem) || !name.ends_with(ending)) continue;
    if (name.size() <= stem.size() + ending.size()) continue;
    const std::string digits = name.substr(stem.size(), name.size() - stem.size() - ending.size());
    if (digits.find_first_not_of("0123456789") == std::string::npos) old.push_back(entry.path());
  }
  for (const fs::path& file : old) {
    std::error_code problem;
    fs::remove(file, problem);
    if (problem) {
      refuse(file.string(),
             fmt::format("an earlier run's, cannot be removed: {}", problem.message()));
    }
  }
}

void remove_unfinished_outputs() noexcept { Unfinished::remove_all(); }

}  // namespace photonlane::io

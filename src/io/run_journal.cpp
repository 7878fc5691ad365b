#include "io/run_journal.hpp"

#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <vector>

#include "io/files.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::io {
namespace {

/// Removes files that a killed process was writing in a folder: it is gone.
void remove_left_over(const std::string& folder) {
  for (const auto& entry : std::filesystem::directory_iterator(folder)) {
    const std::string name = entry.path().filename().string();
    int process = 0;
    int number = 0;
    int end = 0;
    if (std::sscanf(name.c_str(), ".photonlane-%d-%d.part%n", &process, &number, &end) != 2)
      continue;
    if (end != static_cast<int>(name.size()) || process <= 0) continue;
    if (kill(process, 0) != 0 && errno == ESRCH) std::remove((folder + "/" + name).c_str());
  }
}

constexpr std::size_t largest_journal = std::size_t{1} << 30;  // bytes

/// The lines that are whole, as JSON; a run that was killed may have written part of one.
std::vector<Json> whole_lines(const std::string& text) {
  std::vector<Json> lines;
  for (std::size_t from = 0; from < text.size();) {
    const std::size_t end = text.find('\n', from);
    if (end == text.npos) break;
    Json line = Json::parse(text.begin() + static_cast<std::ptrdiff_t>(from),
                            text.begin() + static_cast<std::ptrdiff_t>(end), nullptr, false);
    if (line.is_discarded() || !line.is_object()) break;
    lines.push_back(std::move(line));
    from = end + 1;
  }
  return lines;
}

}  // namespace

RunJournal::RunJournal(const std::string& folder, std::string_view kind, const Digest& what,
                       bool resume)
    : path_(folder + "/run.journal") {
  const Json head{{"run", std::string(kind)},
                  {"of", fmt::format("{:016x}{:016x}", what.high, what.low)}};
  if (resume) {
    if (!std::filesystem::exists(path_)) {
      throw Error(ErrorKind::usage,
                  "there is no run.journal, expected one of a run that was stopped", Place{folder});
    }
    if (std::filesystem::file_size(path_) > largest_journal) {
      throw Error(ErrorKind::memory, "the journal is over 1 GiB", Place{path_});
    }
    remove_left_over(folder);
    const std::vector<Json> lines = whole_lines(read_file(path_));
    if (lines.empty() || lines.front() != head) {
      throw Error(
          ErrorKind::usage,
          fmt::format("is the journal of another {}, expected the same scene, options and "
                      "version to resume it",
                      lines.empty() || lines.front().value("run", "") == kind ? kind : "run"),
          Place{path_});
    }
    for (std::size_t i = 1; i < lines.size(); ++i) {
      const Json& part = lines[i].value("part", Json());
      if (!part.is_number_unsigned() || !lines[i].contains("left")) {
        throw Error(ErrorKind::input, fmt::format("line {} is no part of the run", i + 1),
                    Place{path_});
      }
      left_[part.get<std::size_t>()] = lines[i]["left"];
    }
  }
  // Anew, so that what was cut off of a line is gone.
  file_ = std::fopen(path_.c_str(), "wb");
  if (file_ == nullptr) throw Error(ErrorKind::file, std::strerror(errno), Place{path_});
  write(head);
  for (const auto& [part, left] : left_) write({{"part", part}, {"left", left}});
}

RunJournal::~RunJournal() {
  if (file_ == nullptr) return;
  // Of nothing there is nothing to resume.
  if (left_.empty()) {
    finish();
  } else {
    std::fclose(file_);
  }
}

void RunJournal::refuse(const std::string& why) const {
  throw Error(ErrorKind::input, "does not read back: " + why, Place{path_});
}

void RunJournal::keep(std::size_t part, const Json& left) {
  left_[part] = left;
  write({{"part", part}, {"left", left}});
}

void RunJournal::finish() {
  std::fclose(file_);
  file_ = nullptr;
  std::remove(path_.c_str());
}

void RunJournal::write(const Json& line) {
  const std::string text = line.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
  const bool written = std::fwrite(text.data(), 1, text.size(), file_) == text.size() &&
                       std::fflush(file_) == 0 && fsync(fileno(file_)) == 0;
  if (!written) throw Error(ErrorKind::file, std::strerror(errno), Place{path_});
}

}  // namespace photonlane::io

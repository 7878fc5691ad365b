#pragma once

#include <cstdio>
#include <map>
#include <optional>
#include <string>
#include <string_view>

#include "base/digest.hpp"
#include "io/json.hpp"

namespace photonlane::io {

/// Keeps what the parts of a run have left, in a file beside its results, as they are done: a run
/// that was stopped or killed is begun again with `resume` and does what is missing. The file is
/// removed when the run has ended.
class RunJournal {
 public:
  /// `what` is of all that decides what the run's parts leave: a journal of anything else is
  /// refused. Throws Error (usage) where there is nothing to resume, or something else; Error
  /// (file) where the folder cannot be written to.
  RunJournal(const std::string& folder, std::string_view kind, const Digest& what, bool resume);
  ~RunJournal();
  RunJournal(const RunJournal&) = delete;
  RunJournal& operator=(const RunJournal&) = delete;

  /// What an earlier run left of a part, as `convert` makes it of JSON; none: it is still to be
  /// done. Throws Error (input) where it does not read back.
  template <class Convert>
  auto left(std::size_t part, const Convert& convert) const
      -> std::optional<decltype(convert(Json()))> {
    const auto found = left_.find(part);
    if (found == left_.end()) return std::nullopt;
    try {
      return convert(found->second);
    } catch (const Json::exception& problem) {
      refuse(problem.what());
    }
  }
  void keep(std::size_t part, const Json& left);
  /// For the message of a run that was stopped: how to go on, where there is something to go on
  /// from.
  std::string_view hint() const { return left_.empty() ? "" : "; --resume goes on"; }
  /// All is done.
  void finish();

 private:
  [[noreturn]] void refuse(const std::string& why) const;
  void write(const Json& line);

  std::string path_;
  std::FILE* file_ = nullptr;
  std::map<std::size_t, Json> left_;  ///< of the parts that are done
};

}  // namespace photonlane::io

#pragma once

///   try {
///     render(world, camera, budget);
///   } catch (const Error& error) {
///     puts(error.what());  // file, line and column where there are any, what was found and
///     expected
///   }

#include <stdexcept>
#include <string>
#include <utility>

namespace photonlane {

/// What an error is about, so that a program can tell its own mistake from its input's.
enum class ErrorKind {
  input,      ///< a value, file or scene that makes no sense
  usage,      ///< a call or option that does not exist or does not fit
  file,       ///< a file that cannot be read or written
  memory,     ///< more memory asked for than allowed
  cancelled,  ///< the progress callback asked to stop
};

/// Where in a file something stands. Lines and columns count from 1; 0 means unknown.
struct Place {
  std::string file;
  int line = 0;
  int column = 0;
};

/// "FILE:LINE:COLUMN" as far as they are known, on one line.
std::string place_text(const Place& place);

/// The one exception of the library. `what()` is a single line, with the place in front: text of a
/// user's in it is shown by one_line().
class Error : public std::runtime_error {
 public:
  Error(ErrorKind kind, std::string message, Place place = {});

  ErrorKind kind() const { return kind_; }
  const Place& place() const { return place_; }
  /// The message without the place.
  const std::string& message() const { return message_; }

  /// The same error at another place.
  Error at(Place place) const { return Error(kind_, message_, std::move(place)); }

 private:
  ErrorKind kind_;
  Place place_;
  std::string message_;
};

}  // namespace photonlane

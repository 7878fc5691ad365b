#pragma once

#include <initializer_list>
#include <string>
#include <string_view>

namespace photonlane::io {

/// Whether a file can be written, asked before the work that makes it:
///
///   io::check_output("view.png", {".png", ".exr"});
///   Frame frame = render(...);
///   io::write_frame("view.png", frame);
///
/// Throws Error (usage) where the name has none of the endings, Error (file) where its folder is
/// not there or cannot be written to, or where a folder has that name.
void check_output(const std::string& path, std::initializer_list<std::string_view> endings);

/// Writes a file whole or not at all, by a new one in the same folder that takes its place. A link
/// stays a link, and the mode of what was there is kept. Throws Error (file).
void write_file(const std::string& path, std::string_view bytes);

/// A folder for results, made with its parents before the work that fills it begins; one that was
/// new and is still empty at the end is removed again.
class OutputFolder {
 public:
  /// Throws Error (file) where the folder cannot be made or written to.
  explicit OutputFolder(std::string path);
  ~OutputFolder();
  OutputFolder(const OutputFolder&) = delete;
  OutputFolder& operator=(const OutputFolder&) = delete;

  /// Removes the files of an earlier run: those named `stem` + digits + `ending`. Throws Error
  /// (file) where one cannot be removed.
  void remove_numbered(std::string_view stem, std::string_view ending) const;

 private:
  std::string path_;
  bool is_new_;
  int slot_ = -1;
};

/// Removes the files that are being written right now, and output folders that are new and empty.
/// May be called from a signal handler; the process has to end after it.
void remove_unfinished_outputs() noexcept;

}  // namespace photonlane::io

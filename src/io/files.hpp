#pragma once

#include <cstddef>
#include <functional>
#include <string>
#include <string_view>

#include "photonlane/io/output.hpp"

namespace photonlane::io {

/// How long files may be that are read as a whole.
inline constexpr std::size_t most_text_bytes = std::size_t{1} << 26;
inline constexpr std::size_t most_picture_bytes = std::size_t{1} << 30;

/// All bytes of a file or a pipe. Throws Error (file) where it cannot be read, is a folder or a
/// device, or has more bytes than `most`.
std::string read_file(const std::string& path, std::size_t most = most_text_bytes);

/// Writes a file whole or not at all: `write` gets the name of a new file in the same folder, which
/// takes the place of `path` when it returns and is removed when it throws. A link stays a link,
/// the file it leads to is replaced; the mode of what was there is kept; pipes and devices are
/// written to as they are. Throws Error (file) where that fails.
void write_whole(const std::string& path, const std::function<void(const std::string&)>& write);

/// Makes a folder with its parents; throws Error (file) where it cannot be made or written to.
void make_folder(const std::string& path);

/// The folder a file is in, with its last slash, or nothing.
std::string folder_of(const std::string& path);

/// The path of a name that is from a folder on, which has its last slash; absolute names as they
/// are.
std::string path_from(const std::string& folder, const std::string& name);

/// True where a path ends so, without regard to case.
bool ends_with(std::string_view path, std::string_view ending);

}  // namespace photonlane::io

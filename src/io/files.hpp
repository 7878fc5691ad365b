#pragma once

#include <functional>
#include <string>
#include <string_view>

namespace photonlane::io {

/// All bytes of a file; throws Error (file) where it cannot be read.
std::string read_file(const std::string& path);

/// Writes a file whole or not at all: `write` gets a temporary name beside it, which is renamed
/// when it returns and removed when it throws. Throws Error (file) where that fails.
void write_whole(const std::string& path, const std::function<void(const std::string&)>& write);

/// The same for bytes at hand.
void write_file(const std::string& path, std::string_view bytes);

/// Makes a folder with its parents; throws Error (file) where it cannot be made or written to.
void make_folder(const std::string& path);

/// The folder a file is in, with its last slash, or nothing.
std::string folder_of(const std::string& path);

/// True where a path ends so, without regard to case.
bool ends_with(std::string_view path, std::string_view ending);

}  // namespace photonlane::io

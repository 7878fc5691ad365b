#include "io/yaml_text.hpp"

#include <fmt/format.h>

#include "photonlane/base/error.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane::io {

std::string yaml_quoted(std::string_view text) {
  if (const auto bad = find_invalid_utf8(text)) {
    throw Error(ErrorKind::usage,
                fmt::format("'{}' cannot be written: it is not UTF-8 from its byte "
                            "{} on",
                            text.substr(0, 40), *bad + 1));
  }
  std::string result = "\"";
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      result += '\\';
      result += c;
    } else if (c == '\n') {
      result += "\\n";
    } else if (byte < 0x20 || byte == 0x7f) {
      result += fmt::format("\\x{:02x}", byte);
    } else {
      result += c;
    }
  }
  return result + "\"";
}

std::string keyed(std::string_view key, const std::string& lines, int indent) {
  return fmt::format("{:{}}{}:{}\n", "", indent, key, lines.empty() ? " {}" : "") + lines;
}

std::string indented(std::string_view lines, int indent) {
  std::string text;
  while (!lines.empty()) {
    const std::size_t stop = std::min(lines.find('\n'), lines.size());
    text += fmt::format("{:{}}{}\n", "", indent, lines.substr(0, stop));
    lines.remove_prefix(std::min(stop + 1, lines.size()));
  }
  return text;
}

std::string list_item(std::string lines, int indent) {
  if (lines.empty()) return fmt::format("{:{}}- {{}}\n", "", indent);
  lines[static_cast<std::size_t>(indent)] = '-';
  return lines;
}

}  // namespace photonlane::io

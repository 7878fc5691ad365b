#include "photonlane/base/words.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

namespace photonlane {
namespace {

std::size_t edits_between(std::string_view a, std::string_view b) {
  const std::size_t columns = b.size() + 1;
  std::vector<std::size_t> table((a.size() + 1) * columns);
  const auto at = [&](std::size_t i, std::size_t j) -> std::size_t& {
    return table[i * columns + j];
  };
  for (std::size_t i = 0; i <= a.size(); ++i) at(i, 0) = i;
  for (std::size_t j = 0; j <= b.size(); ++j) at(0, j) = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t replaced = at(i - 1, j - 1) + (a[i - 1] == b[j - 1] ? 0 : 1);
      at(i, j) = std::min({at(i - 1, j) + 1, at(i, j - 1) + 1, replaced});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1]) {
        at(i, j) = std::min(at(i, j), at(i - 2, j - 2) + 1);
      }
    }
  }
  return at(a.size(), b.size());
}

std::string_view last_part(std::string_view word) {
  return word.substr(word.find_last_of('.') + 1);
}

}  // namespace

std::optional<std::string> nearest_word(std::string_view word,
                                        std::span<const std::string_view> candidates) {
  if (word.size() > 100) return std::nullopt;
  std::optional<std::string> best;
  std::size_t best_edits = std::max<std::size_t>(1, word.size() / 3) + 1;
  for (const std::string_view candidate : candidates) {
    if (candidate.empty()) continue;
    std::size_t edits = edits_between(word, candidate);
    if (last_part(word) == last_part(candidate)) edits = std::min<std::size_t>(edits, 1);
    if (edits < best_edits) {
      best_edits = edits;
      best = std::string(candidate);
    }
  }
  return best;
}

std::string suggestion(std::string_view word, std::span<const std::string_view> candidates) {
  const auto near = nearest_word(word, candidates);
  return near ? "; did you mean " + *near + "?" : std::string();
}

std::size_t utf8_length(std::string_view text) {
  const auto byte = [&](std::size_t i) -> unsigned {
    return i < text.size() ? static_cast<unsigned char>(text[i]) : 0u;
  };
  const auto follows = [&](std::size_t i) { return (byte(i) & 0xc0u) == 0x80u; };
  const unsigned first = byte(0);
  if (text.empty()) return 0;
  if (first < 0x80) return 1;
  if (first < 0xc2 || first > 0xf4) return 0;
  if (first < 0xe0) return follows(1) ? 2 : 0;
  const unsigned second = byte(1);
  if (first < 0xf0) {
    const bool fits = first == 0xe0 ? second >= 0xa0 : first != 0xed || second < 0xa0;
    return fits && follows(1) && follows(2) ? 3 : 0;
  }
  const bool fits = first == 0xf0 ? second >= 0x90 : first != 0xf4 || second < 0x90;
  return fits && follows(1) && follows(2) && follows(3) ? 4 : 0;
}

std::optional<std::size_t> find_invalid_utf8(std::string_view text) {
  for (std::size_t i = 0; i < text.size();) {
    const std::size_t length = utf8_length(text.substr(i));
    if (length == 0) return i;
    i += length;
  }
  return std::nullopt;
}

std::string one_line(std::string_view text) {
  std::string shown;
  while (!text.empty()) {
    const std::size_t length = utf8_length(text);
    const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
    if (length <= 1) {
      const char c = text.front();
      if (c == '\n') {
        shown += "\\n";
      } else if (c == '\t') {
        shown += "\\t";
      } else if (c == '\r') {
        shown += "\\r";
      } else if (length == 0 || byte(0) < 0x20 || byte(0) == 0x7f) {
        shown += fmt::format("\\x{:02x}", byte(0));
      } else {
        shown += c;
      }
      text.remove_prefix(1);
      continue;
    }
    unsigned code = 0;
    if (length == 2) code = (byte(0) & 31u) << 6 | (byte(1) & 63u);
    if (length == 3) code = (byte(0) & 15u) << 12 | (byte(1) & 63u) << 6 | (byte(2) & 63u);
    const bool turns_text = (code >= 0x202a && code <= 0x202e) ||
                            (code >= 0x2066 && code <= 0x2069) || code == 0x200e ||
                            code == 0x200f || code == 0x061c;
    const bool ends_line = code == 0x2028 || code == 0x2029;
    if ((code >= 0x80 && code < 0xa0) || turns_text || ends_line) {
      shown += fmt::format("\\u{:04x}", code);
    } else {
      shown += text.substr(0, length);
    }
    text.remove_prefix(length);
  }
  return shown;
}

}  // namespace photonlane

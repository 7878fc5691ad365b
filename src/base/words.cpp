#include "photonlane/base/words.hpp"

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

}  // namespace photonlane

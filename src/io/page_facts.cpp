#include "io/page_facts.hpp"

#include <fmt/format.h>

#include "photonlane/io/layer_picture.hpp"
#include "photonlane/io/machine.hpp"

namespace photonlane::io {

std::vector<std::pair<std::string, std::string>> facts_of(const RunFacts& facts) {
  std::vector<std::pair<std::string, std::string>> list;
  const auto add = [&](const char* name, const std::string& text) {
    if (!text.empty()) list.emplace_back(name, text);
  };
  add("command", facts.command);
  add("scene", facts.scene);
  add("digest of the scene", facts.digest);
  add("date", date_text());
  add("machine", machine_name());
  add("threads", facts.threads > 0 ? fmt::format("{}", facts.threads) : "all");
  add("version", PHOTONLANE_VERSION);
  return list;
}

PageCell number_cell(double value, std::string text) { return {std::move(text), value}; }

Picture picture_of(const Frame& frame) {
  Frame shown = frame;
  if (!shown.has(Layer::display)) encode_display(shown);
  return to_picture(shown);
}

}  // namespace photonlane::io

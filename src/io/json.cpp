#include "io/json.hpp"

template class nlohmann::basic_json<nlohmann::ordered_map>;

namespace photonlane::io {

std::string json_text(const Json& json) {
  return json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

Json parse_json(std::string_view text) { return Json::parse(text); }

}  // namespace photonlane::io

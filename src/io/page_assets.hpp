#pragma once

#include <string_view>

namespace photonlane::io {

/// What pages of results have inside: the files as they are.
extern const std::string_view chart_js;
extern const std::string_view bootstrap_css;
extern const std::string_view page_js;
extern const std::string_view page_css;

}  // namespace photonlane::io

#pragma once

#include <string_view>

namespace photonlane::live {

/// The files of the page, as they are.
extern const std::string_view index_html;
extern const std::string_view live_css;
extern const std::string_view main_js;
extern const std::string_view link_js;
extern const std::string_view picture_js;
extern const std::string_view knobs_js;
extern const std::string_view price_js;
extern const std::string_view text_js;
extern const std::string_view bootstrap_css;
extern const std::string_view bootstrap_js;
extern const std::string_view chart_js;
extern const std::string_view codemirror_css;
extern const std::string_view codemirror_js;
extern const std::string_view yaml_js;

}  // namespace photonlane::live

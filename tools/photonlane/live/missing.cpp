#include "live/live.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::tool {

int run(const LiveCommand&) {
  throw Error(ErrorKind::usage,
              "live: this photonlane was built without the page; install libcpp-httplib-dev, "
              "libturbojpeg0-dev, libjs-codemirror, libjs-bootstrap5 and libjs-chart.js, and build "
              "it again");
}

}  // namespace photonlane::tool

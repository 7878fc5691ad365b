#pragma once

namespace photonlane::test {

/// How many of so many to try: fewer under the sanitizers, which look at how it is done, not at
/// what comes out.
constexpr int effort(int all) {
#ifdef PHOTONLANE_SANITIZED
  return (all + 3) / 4;
#else
  return all;
#endif
}

/// The same where a single one takes long.
constexpr int little_effort(int all) { return effort(effort(all)); }

}  // namespace photonlane::test

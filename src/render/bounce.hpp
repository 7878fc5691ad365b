#pragma once

#include "render/look.hpp"

namespace photonlane {

/// Adds what wet floors throw back.
void reflect_wet(const RenderJob& job, Sight& sight, const PixelPlace& place,
                 const Surfaces& surfaces, Colors& colors, Tally& tally);

/// Adds what mirrors throw back and what is behind bodies that bend light, along lanes that go on
/// from them. Nothing is left to be looked through where light is bent.
void bounce(const RenderJob& job, const PixelPlace& place, const LookedAt& seen, const Leg& leg,
            Colors& colors, Tally& tally);

}  // namespace photonlane

#pragma once

///   std::vector<io::NamedMatte> mattes{io::named(make_matte(world, camera, budget), scene)};
///   io::write_frame("frame.exr", frame, mattes);

#include <cstdint>
#include <map>
#include <span>
#include <string>

#include "photonlane/frame/matte.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/picture.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

/// A matte, and what its things are called, as far as they have names.
struct NamedMatte {
  Matte matte;
  std::map<std::uint32_t, std::string> names{};
};
NamedMatte named(Matte matte, const Scene& scene);

/// The thing of a matte that is called so, or has that number. Throws Error (usage) where there is
/// none, with a name that is like it.
std::uint32_t thing_named(const NamedMatte& matte, const std::string& name);

/// How much of each pixel a thing covers, from black to white.
Picture matte_picture(const Matte& matte, std::uint32_t thing);

/// An EXR file of a frame and mattes of its size. Matte KIND has the channels matte.KIND.RANK.id,
/// whole numbers, and matte.KIND.RANK.share, floats, rank 0 covering most; its names are in the
/// header as photonlane.matte.KIND, a JSON object from numbers to names. Throws as write_frame, and
/// Error (usage) for other endings than .exr, mattes of another size, and two of one kind.
void write_frame(const std::string& path, Frame& frame, std::span<const NamedMatte> mattes);

}  // namespace photonlane::io

#include "photonlane/frame/views.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "frame/parts.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();

/// What a layer shows where nothing is seen.
std::uint32_t empty_code(Layer layer) {
  if (layer == Layer::display) return 0xff000000u;
  if (layer == Layer::cell) return no_item;
  if (layer == Layer::material) return no_material;
  return layer == Layer::ending ? static_cast<std::uint32_t>(Ending::escaped) : 0;
}

void clear(Frame& frame) {
  each_plane(
      frame,
      [&](Layer layer, int channel) {
        const bool nothing =
            layer == Layer::color || layer == Layer::normal || layer == Layer::alpha;
        const float value = nothing ? 0 : infinite;
        for (int y = 0; y < frame.size().height; ++y) {
          std::ranges::fill(frame.values(layer, channel).row(y), value);
        }
      },
      [&](Layer layer) {
        for (int y = 0; y < frame.size().height; ++y) {
          std::ranges::fill(frame.codes(layer).row(y), empty_code(layer));
        }
      });
}

}  // namespace

std::span<const Knob<View>> view_knobs() {
  static const Knob<View> table[] = {
      knob<&View::left>("left", "", {0, 1},
                        "left edge of the part, as a share of the frame's width"),
      knob<&View::top>("top", "", {0, 1},
                       "upper edge of the part, as a share of the frame's height"),
      knob<&View::width>("width", "", {0, 1, true}, "width of the part, as a share of the frame's"),
      knob<&View::height>("height", "", {0, 1, true},
                          "height of the part, as a share of the frame's"),
  };
  return table;
}

PixelPart pixel_part(const View& view, Size size) {
  const auto edge = [](double share, int side) {
    return static_cast<int>(std::lround(share * side));
  };
  const int x = edge(view.left, size.width);
  const int y = edge(view.top, size.height);
  return {x,
          y,
          {edge(view.left + view.width, size.width) - x,
           edge(view.top + view.height, size.height) - y}};
}

Frame beside(std::span<const Frame> frames, int gap) {
  if (frames.empty()) throw Error(ErrorKind::input, "no frames to put side by side");
  Size size{-gap, frames.front().size().height};
  for (const Frame& frame : frames) {
    bool same = frame.size().height == size.height;
    for (std::size_t i = 0; i < layer_count; ++i) {
      const auto layer = static_cast<Layer>(i);
      same = same && frame.has(layer) == frames.front().has(layer);
    }
    if (!same) throw Error(ErrorKind::input, "frames of other heights or layers side by side");
    size.width += gap + frame.size().width;
  }
  Frame whole(size, frames.front().layers());
  clear(whole);
  int left = 0;
  for (const Frame& frame : frames) {
    paste(frame, {0, 0, frame.size()}, left, 0, whole);
    left += frame.size().width + gap;
    whole.tally += frame.tally;
  }
  return whole;
}

std::string view_title(std::size_t index) { return fmt::format("view {}", index + 1); }

Frame render_views(const World& world, std::span<const View> views, const Budget& budget,
                   RenderOptions options) {
  const Size size = budget.frame.size();
  if (views.empty()) throw Error(ErrorKind::input, "no view to render, expected at least one");
  for (std::size_t i = 0; i < views.size(); ++i) {
    const View& view = views[i];
    validate_knobs(view_knobs(), view);
    const PixelPart part = pixel_part(view, size);
    if (view.left + view.width > 1 + 1e-9 || view.top + view.height > 1 + 1e-9 ||
        part.size.width < 1 || part.size.height < 1) {
      throw Error(
          ErrorKind::input,
          fmt::format("{}: {}x{} pixels at {}, {} of a frame of {}x{}, expected some within it",
                      view_title(i), part.size.width, part.size.height, part.x, part.y, size.width,
                      size.height));
    }
  }
  const PixelPart shown = options.part.value_or(PixelPart{0, 0, size});
  check_part(shown, size);
  check_memory(shown.size, options.layers, options.memory_limit);
  Frame frame(shown.size, options.layers, std::move(options.recycle));
  clear(frame);
  frame.budget = budget;
  frame.part = options.part;
  frame.cost.compile_ms = world.compile_ms();
  const auto progress = std::move(options.progress);
  Frame kept;
  for (std::size_t i = 0; i < views.size(); ++i) {
    const PixelPart part = pixel_part(views[i], size);
    Budget own = budget;
    own.frame.width = part.size.width;
    own.frame.height = part.size.height;
    const PixelPart target = overlap(part, shown);
    if (target.size.width <= 0 || target.size.height <= 0) continue;
    RenderOptions one;
    if (options.part) one.part = {target.x - part.x, target.y - part.y, target.size};
    one.layers = options.layers;
    one.threads = options.threads;
    one.memory_limit = options.memory_limit;
    one.recycle = std::move(kept);
    if (progress) {
      one.progress = [&](double share) {
        return progress((static_cast<double>(i) + share) / static_cast<double>(views.size()));
      };
    }
    try {
      kept = render(world, views[i].camera, own, std::move(one));
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::cancelled) throw;
      throw Error(error.kind(), fmt::format("{}: {}", view_title(i), error.message()));
    }
    paste(kept, {0, 0, kept.size()}, target.x - shown.x, target.y - shown.y, frame);
    frame.tally += kept.tally;
    frame.cost.cast_ms += kept.cost.cast_ms;
    frame.cost.fill_ms += kept.cost.fill_ms;
    frame.cost.stages += kept.cost.stages;
    frame.cost.waiting_ms += kept.cost.waiting_ms;
    frame.cost.threads = kept.cost.threads;
  }
  return frame;
}

}  // namespace photonlane

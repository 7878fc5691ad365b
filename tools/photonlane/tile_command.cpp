#include "tile_command.hpp"

#include <fmt/format.h>

#include "photonlane/io.hpp"
#include "photonlane/many/tiles.hpp"
#include "shared.hpp"
#include "terminal.hpp"

namespace photonlane::tool {

int run_tiles(const RenderCommand& command, const io::SceneFile& file, LayerSet layers) {
  const bool own_folder = command.store.empty();
  const std::unique_ptr<Company> company = join_company();
  const bool quiet = command.common.quiet || !company->leads();
  const Stoppable stoppable;
  ProgressBar bar("render", quiet);
  const auto show = bar.callback();
  io::TileRun tiles;
  tiles.tiles = command.tiles;
  tiles.folder = own_folder ? command.output + ".tiles" : command.store;
  tiles.threads = command.common.threads;
  tiles.layers = layers;
  tiles.progress = [&](double share) { show(share); };
  tiles.go_on = [] { return !Stoppable::asked(); };
  try {
    io::TiledFrame made = command.parted
                              ? io::make_tiles_parted(file, tiles, *company)
                              : io::make_tiles(file, compile(file.scene), tiles, *company);
    bar.clear();
    if (!company->leads()) return success;
    io::write_frame(command.output, made.frame);
    if (own_folder) io::remove_tiles(tiles.folder);
    if (command.common.json) {
      put(io::frame_json(made.frame));
    } else if (!quiet) {
      put(io::cost_text(made.frame));
      std::string there;
      if (made.found > 0) there += fmt::format(", {} of them were there", made.found);
      if (made.damaged > 0) there += fmt::format(", {} were damaged and made again", made.damaged);
      const std::string by =
          company->size() > 1
              ? fmt::format(", by {} processes with {} messages of {:.1f} MB", company->size(),
                            made.traffic.messages, static_cast<double>(made.traffic.bytes) / 1e6)
              : "";
      const std::string rounds =
          made.rounds > 0 ? fmt::format(", in {} rounds of answers", made.rounds) : "";
      print("{} tiles{}{}{}\n{}\n", made.tiles, there, by, rounds, command.output);
    }
    return success;
  } catch (const Error& error) {
    bar.clear();
    Error told = placed(file, error);
    if (error.kind() == ErrorKind::cancelled) {
      told =
          Error(ErrorKind::cancelled,
                fmt::format("stopped; what is done is in {}: the same command goes on from there",
                            tiles.folder));
    }
    if (company->size() == 1) throw told;
    complain(fmt::format("process {}: {}", company->rank(), told.what()));
    company->give_up(bad_input);
  }
}

}  // namespace photonlane::tool

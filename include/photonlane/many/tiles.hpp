#pragma once

/// A frame in tiles, each kept in a file as it is done: what was made before a process, a machine
/// or the night ended is there when it is begun again, by whomever.
///
///   TileRun run{.tiles = 64, .folder = "evening.tiles"};
///   const TiledFrame made = make_tiles(file, compile(file.scene), run, *join_company());

#include <cstddef>
#include <cstdint>
#include <functional>
#include <string>

#include "photonlane/frame/render.hpp"
#include "photonlane/io/scene_file.hpp"
#include "photonlane/many/company.hpp"

namespace photonlane::io {

struct TileRun {
  int tiles = 64;      ///< about as many, of whole blocks of pixels that are worked at together
  std::string folder;  ///< where they are kept; made where it is not there
  int threads = 0;     ///< of each process
  LayerSet layers{Layer::display};
  /// Of make_tiles_parted(): bytes a machine may give for parts; 0: what it has free.
  std::uint64_t memory = 0;
  std::function<void(double share)> progress;  ///< on rank 0: told how much is done
  /// Asked again and again, on each process and from any thread; false: Error (cancelled).
  std::function<bool()> go_on;
};

struct TiledFrame {
  Frame frame;              ///< on rank 0; elsewhere none
  std::size_t tiles = 0;    ///< it consists of
  std::size_t found = 0;    ///< those that were there already
  std::size_t damaged = 0;  ///< those that were there and were made again
  Company::Traffic traffic;
  std::size_t rounds = 0;  ///< of make_tiles_parted(): in which all asked and answered
};

/// Makes the tiles that a folder does not have, and puts all together: the same bytes as render()
/// gives, for any number of tiles, threads, processes and beginnings; frames of paths without the
/// error that is left in them. The folder is rank 0's;
/// others need none. Dear tiles are begun first where several processes are at it.
///
/// A tile is a file whose first line (JSON) says what it is of: version, scene, camera, budget,
/// layers, part of the frame, counts, and a checksum of all that and of the planes that follow. It
/// is written beside, synced and renamed, and its folder synced, so that it is there whole or not.
///
/// Throws Error (usage) where the folder has tiles of something else, and says what differs, where
/// another process is at the same folder, for several views, and for frames of which no part can be
/// made without the rest (light.metering other than manual, frame.denoise of paths); Error (input)
/// where processes read different scenes; Error (file) where a tile cannot be written: those before
/// stay.
TiledFrame make_tiles(const SceneFile& file, const World& world, const TileRun& run,
                      Company& company);

/// The same of a scene whose spheres no process holds alone: each holds some of the parts of lists
/// (`files: NAME.parts`), and all answer what lanes of all meet in theirs, in rounds; the picture
/// has the bytes of one process that holds all parts. Of one thread a process. Everything else of a
/// scene stands on every process. Throws Error (usage) also for scenes without parts, and where the
/// parts that processes of a machine hold need more memory than it has, with how many machines it
/// takes.
TiledFrame make_tiles_parted(const SceneFile& file, const TileRun& run, Company& company);

/// Removes a folder's tiles, and the folder where nothing else is in it.
void remove_tiles(const std::string& folder);

/// The parts of a frame that its tiles are, row after row.
std::vector<PixelPart> tile_parts(Size frame, Size block, int tiles);

}  // namespace photonlane::io

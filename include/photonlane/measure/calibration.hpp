#pragma once

///   const double share = frame_ms / calibrate_ms();  // of what this machine can do right now

namespace photonlane {

/// How long a fixed piece of work takes on one thread right now, in milliseconds: about 2 ms of
/// arithmetic in dependent chains and of reads spread over 4 MB. Times as multiples of it compare
/// across slow and fast moments of a machine, and roughly across machines.
double calibrate_ms();

}  // namespace photonlane

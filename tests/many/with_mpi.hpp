#pragma once

#include <fmt/format.h>

#include <filesystem>
#include <string>

#include "photonlane/many/company.hpp"

namespace photonlane::test {

/// Why commands are not started together here; empty: they are.
inline std::string without_mpi() {
#ifdef PHOTONLANE_SANITIZED
  return "Open MPI does not free all that it takes when it starts";
#endif
  if (has_many() && std::filesystem::exists(PHOTONLANE_MPIRUN)) return "";
  return "libopenmpi-dev and openmpi-bin are not installed";
}

/// A command that is started so many times, on this machine, over sockets.
inline std::string with_mpi(int processes, const std::string& command) {
  return fmt::format(
      "OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1 '{}' --oversubscribe --mca "
      "mpi_yield_when_idle 1 --mca btl tcp,self --mca btl_tcp_if_include lo --mca "
      "oob_tcp_if_include lo -n {} {}",
      PHOTONLANE_MPIRUN, processes, command);
}

}  // namespace photonlane::test

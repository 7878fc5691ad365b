#include <fmt/format.h>

#include <cstdlib>

#include "photonlane/base/error.hpp"
#include "photonlane/many/company.hpp"

namespace photonlane {
namespace {

class NoCompany final : public Company {
 public:
  int rank() const override { return 0; }
  int size() const override { return 1; }
  void broadcast(Bytes&) override {}
  std::vector<Bytes> gather(const Bytes& own) override { return {own}; }
  std::vector<Bytes> swap(const std::vector<Bytes>& own) override { return own; }
  void give_up(int code) override { std::exit(code); }
  void share_out(std::span<const std::size_t> pieces, const std::function<Bytes(std::size_t)>& make,
                 const std::function<void(std::size_t, Bytes)>& take,
                 const std::function<bool()>& go_on) override {
    for (const std::size_t piece : pieces) {
      if (!go_on()) throw Error(ErrorKind::cancelled, "stopped by the caller");
      take(piece, make(piece));
    }
  }
};

}  // namespace

std::unique_ptr<Company> no_company() { return std::make_unique<NoCompany>(); }

#ifndef PHOTONLANE_WITH_MPI
bool has_many() { return false; }

std::unique_ptr<Company> join_company() {
  for (const char* const name : {"OMPI_COMM_WORLD_SIZE", "SLURM_STEP_NUM_TASKS"}) {
    const char* const count = std::getenv(name);
    if (count == nullptr || std::atoi(count) < 2) continue;
    throw Error(ErrorKind::usage,
                fmt::format("{} processes were started together, and this was built without Open "
                            "MPI: install libopenmpi-dev and openmpi-bin, and build again",
                            std::atoi(count)));
  }
  return no_company();
}
#endif

}  // namespace photonlane

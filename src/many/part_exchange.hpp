#pragma once

#include <functional>
#include <vector>

#include "photonlane/many/company.hpp"
#include "photonlane/spheres/sphere_parts.hpp"
#include "spheres/parted_solid.hpp"

namespace photonlane {

class ByteReader;
class ByteWriter;

/// Answers for parts of spheres that are spread over a company. All ranks go in rounds: each says
/// what it asks (lanes, places, or nothing any more), answers all others and itself by the parts it
/// holds, and puts together what it gets. So a rank that waits for an answer answers meanwhile, and
/// messages never cross. Of one thread a rank.
class PartExchange final : public FarParts {
 public:
  /// Rank 0's answer to what is handed in is none: `take` has it.
  explicit PartExchange(Company& company,
                        std::function<void(std::size_t piece, Company::Bytes)> take = {})
      : company_(company), take_(std::move(take)) {}

  void join(std::size_t number, const PartedSolid& solid) override;
  void nearest_hits(std::size_t solid, std::span<const LaneBatch<float>* const> lanes,
                    const Budget& budget, std::span<HitBatch<float>* const> hits) override;
  void nearest_hits(std::size_t solid, std::span<const LaneBatch<double>* const> lanes,
                    const Budget& budget, std::span<HitBatch<double>* const> hits) override;
  std::uint64_t hide(std::size_t solid, const LaneBatch<float>& lanes, const Budget& budget,
                     bool* hidden) override;
  void measure(std::size_t solid, const DistanceBatch& batch) override;

  /// Gives a piece of work to rank 0.
  void hand_in(std::size_t piece, const Company::Bytes& made);
  /// Answers others until all have come here.
  void finish();

  std::size_t rounds() const { return rounds_; }

 private:
  template <class Number>
  void ask_nearest(std::size_t solid, std::span<const LaneBatch<Number>* const> lanes,
                   const Budget& budget, std::span<HitBatch<Number>* const> hits);
  template <class Number>
  void answer_nearest(ByteReader& from, ByteWriter& to) const;
  void answer_hide(ByteReader& from, ByteWriter& to) const;
  void answer_measure(ByteReader& from, ByteWriter& to) const;
  Company::Bytes answer(const Company::Bytes& asked);
  /// A round: what all ranks answer.
  std::vector<Company::Bytes> round(const Company::Bytes& asked);
  const PartedSolid& solid(std::size_t number) const;

  Company& company_;
  std::function<void(std::size_t, Company::Bytes)> take_;
  std::vector<const PartedSolid*> solids_;
  std::size_t over_ = 0;  ///< ranks that asked for nothing in the last round
  std::size_t rounds_ = 0;
};

}  // namespace photonlane

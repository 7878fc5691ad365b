#pragma once

#include <cstddef>
#include <functional>

#include "photonlane/lane/solid.hpp"

namespace photonlane {

/// Batches that are looked at in company.
inline constexpr std::size_t company_size = 16;

/// Looks of several batches in company: each is worked at as if it were alone, but where one asks
/// what lanes meet it waits until all have asked, and a solid is asked once for the lanes of all.
/// So solids get many lanes at once, whatever those are for: from the eye, behind what is clear,
/// toward lights, thrown back.
///
/// Calls work(i) for every i below `count`, about `company_size`; one after the other where
/// `together` is false.
void in_company(bool together, std::size_t count, const std::function<void(std::size_t)>& work);

/// The nearest hits of a solid, in company where there is any.
template <class Number>
void ask_in_company(const Solid& solid, const LaneBatch<Number>& lanes, const Budget& budget,
                    HitBatch<Number>& hits);

}  // namespace photonlane

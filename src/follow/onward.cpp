#include "follow/onward.hpp"

#include <algorithm>

#include "photonlane/lane/lanes.hpp"

namespace photonlane {

std::uint32_t kind_of(const Onward& lane) {
  std::uint32_t kind = lane.room;
  for (const bool one : {lane.own, lane.blind, lane.dark, lane.bounce > 0}) kind = 2 * kind + one;
  return kind;
}

std::uint32_t Pool::put(const Onward& lane, const float* before, std::uint32_t room, float meters) {
  std::uint32_t slot;
  if (free_.empty()) {
    slot = static_cast<std::uint32_t>(lanes_.size());
    lanes_.push_back(lane);
    travelled_.resize(travelled_.size() + rooms_);
  } else {
    slot = free_.back();
    free_.pop_back();
    lanes_[slot] = lane;
  }
  float* row = travelled(slot);
  if (before != nullptr) {
    std::copy_n(before, rooms_, row);
  } else {
    std::fill_n(row, rooms_, 0.0f);
  }
  row[room] += meters;
  return slot;
}

void Pool::wait(std::uint32_t slot) {
  ++size_;
  const Onward& lane = lanes_[slot];
  // A lane that comes out of a portal does not hit the wall the portal lies in.
  const std::uint32_t kind = 2 * kind_of(lane) + lane.out_of_portal;
  if (last_ >= queues_.size() || queues_[last_].kind != kind) {
    const auto queue = std::find_if(queues_.begin(), queues_.end(),
                                    [&](const Queue& one) { return one.kind == kind; });
    last_ = static_cast<std::size_t>(queue - queues_.begin());
    if (queue == queues_.end()) queues_.push_back({kind, 0, {}});
  }
  queues_[last_].slots.push_back(slot);
}

std::size_t Pool::take(std::uint32_t* slots) {
  const auto queue =
      std::max_element(queues_.begin(), queues_.end(),
                       [](const Queue& a, const Queue& b) { return a.waiting() < b.waiting(); });
  const std::size_t size = std::min(queue->waiting(), LaneBatch<float>::capacity);
  std::copy_n(queue->slots.begin() + static_cast<std::ptrdiff_t>(queue->first), size, slots);
  queue->first += size;
  size_ -= size;
  if (queue->waiting() == 0) {
    queue->first = 0;
    queue->slots.clear();
  } else if (queue->first > 4 * queue->waiting()) {
    // Lanes that come back again and again would make it longer without end.
    queue->slots.erase(queue->slots.begin(),
                       queue->slots.begin() + static_cast<std::ptrdiff_t>(queue->first));
    queue->first = 0;
  }
  return size;
}

}  // namespace photonlane

#pragma once

#include <httplib.h>

#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <thread>
#include <vector>

namespace photonlane::live {

/// Threads for connections. Whoever brings one when all are taken waits, and so do those in the
/// system's queue behind it: no connection costs memory before it is served.
class Connections : public httplib::TaskQueue {
 public:
  static constexpr std::size_t most = 64;  ///< served at once

  Connections() {
    for (std::size_t i = 0; i < most; ++i) {
      threads_.emplace_back([this] { serve(); });
    }
  }
  void enqueue(std::function<void()> task) override {
    std::unique_lock lock(mutex_);
    room_.wait(lock, [this] { return closing_ || tasks_.size() + busy_ < most; });
    tasks_.push_back(std::move(task));
    wake_.notify_one();
  }
  void shutdown() override {
    {
      const std::lock_guard lock(mutex_);
      closing_ = true;
    }
    wake_.notify_all();
    room_.notify_all();
    for (std::thread& thread : threads_) thread.join();
  }

 private:
  void serve() {
    std::unique_lock lock(mutex_);
    for (;;) {
      wake_.wait(lock, [this] { return closing_ || !tasks_.empty(); });
      if (tasks_.empty()) return;
      const std::function<void()> task = std::move(tasks_.front());
      tasks_.pop_front();
      ++busy_;
      lock.unlock();
      task();
      lock.lock();
      --busy_;
      room_.notify_one();
    }
  }

  std::mutex mutex_;
  std::condition_variable wake_, room_;
  std::deque<std::function<void()>> tasks_;
  std::size_t busy_ = 0;
  bool closing_ = false;
  std::vector<std::thread> threads_;
};

}  // namespace photonlane::live

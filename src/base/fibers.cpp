#include "base/fibers.hpp"

#include <sys/mman.h>
#include <ucontext.h>

#include <cstdint>
#include <exception>
#include <memory>
#include <new>
#include <vector>

#include "base/stage_clock.hpp"

#if defined(__SANITIZE_ADDRESS__)
#define PHOTONLANE_ASAN 1
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
#define PHOTONLANE_ASAN 1
#endif
#endif
#ifdef PHOTONLANE_ASAN
#include <dlfcn.h>
#include <sanitizer/common_interface_defs.h>
#endif

namespace photonlane {
namespace {

#ifdef PHOTONLANE_ASAN
constexpr std::size_t stack_bytes = std::size_t{16} << 20;
#else
constexpr std::size_t stack_bytes = std::size_t{4} << 20;
#endif

/// Memory of a stack; only what is touched takes any. Below it is a page that nobody may touch.
class Stack {
 public:
  Stack() {
    memory_ = mmap(nullptr, stack_bytes + guard, PROT_READ | PROT_WRITE,
                   MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    if (memory_ == MAP_FAILED) throw std::bad_alloc();
    mprotect(memory_, guard, PROT_NONE);
  }
  Stack(const Stack&) = delete;
  Stack& operator=(const Stack&) = delete;
  ~Stack() { munmap(memory_, stack_bytes + guard); }
  void* bottom() const { return static_cast<char*>(memory_) + guard; }

 private:
  static constexpr std::size_t guard = 1 << 16;
  void* memory_;
};

struct Fiber {
  Stack stack;
  ucontext_t context;
  const std::function<void(std::size_t)>* work = nullptr;
  std::size_t index = 0;
  bool ended = true;
  std::exception_ptr thrown;
  void* fake_stack = nullptr;  ///< of the address sanitizer
  StageState stage;
};

/// Those of a thread, kept for the next work.
struct Thread {
  std::vector<std::unique_ptr<Fiber>> fibers;
  Fiber* running = nullptr;
  std::exception_ptr failed;  ///< what an answer threw: thrown to those who wait
  ucontext_t outside;
  void* outside_fake = nullptr;
  const void* outside_bottom = nullptr;
  std::size_t outside_size = 0;
};

Thread& thread() {
  static thread_local Thread own;
  return own;
}

/// Of the C library: the address sanitizer's own prints a warning, and is told of the switch here.
int swap(ucontext_t* from, const ucontext_t* to) {
#ifdef PHOTONLANE_ASAN
  using Swap = int (*)(ucontext_t*, const ucontext_t*);
  static const auto real = reinterpret_cast<Swap>(dlsym(RTLD_NEXT, "swapcontext"));
  return real(from, to);
#else
  return swapcontext(from, to);
#endif
}

void switch_to(Thread& own, Fiber& fiber) {
  own.running = &fiber;
  const StageState outside = stage_now();
  set_stage(fiber.stage);
#ifdef PHOTONLANE_ASAN
  __sanitizer_start_switch_fiber(&own.outside_fake, fiber.stack.bottom(), stack_bytes);
#endif
  swap(&own.outside, &fiber.context);
#ifdef PHOTONLANE_ASAN
  __sanitizer_finish_switch_fiber(own.outside_fake, nullptr, nullptr);
#endif
  own.running = nullptr;
  fiber.stage = stage_now();
  set_stage(outside);
}

void switch_outside(Thread& own, Fiber& fiber) {
#ifdef PHOTONLANE_ASAN
  __sanitizer_start_switch_fiber(fiber.ended ? nullptr : &fiber.fake_stack, own.outside_bottom,
                                 own.outside_size);
#endif
  swap(&fiber.context, &own.outside);
#ifdef PHOTONLANE_ASAN
  __sanitizer_finish_switch_fiber(fiber.fake_stack, &own.outside_bottom, &own.outside_size);
#endif
}

void start() {
  Thread& own = thread();
  Fiber& fiber = *own.running;
#ifdef PHOTONLANE_ASAN
  __sanitizer_finish_switch_fiber(nullptr, &own.outside_bottom, &own.outside_size);
#endif
  try {
    (*fiber.work)(fiber.index);
  } catch (...) {
    fiber.thrown = std::current_exception();
  }
  fiber.ended = true;
  switch_outside(own, fiber);
}

}  // namespace

void Fibers::run(std::size_t count, const std::function<void(std::size_t)>& work,
                 const std::function<void()>& answer) {
  Thread& own = thread();
  while (own.fibers.size() < count) own.fibers.push_back(std::make_unique<Fiber>());
  for (std::size_t i = 0; i < count; ++i) {
    Fiber& fiber = *own.fibers[i];
    fiber.work = &work;
    fiber.index = i;
    fiber.ended = false;
    fiber.thrown = nullptr;
    fiber.stage = stage_now();
    getcontext(&fiber.context);
    fiber.context.uc_stack.ss_sp = fiber.stack.bottom();
    fiber.context.uc_stack.ss_size = stack_bytes;
    fiber.context.uc_link = nullptr;
    makecontext(&fiber.context, start, 0);
  }
  own.failed = nullptr;
  for (;;) {
    bool any = false;
    for (std::size_t i = 0; i < count; ++i) {
      Fiber& fiber = *own.fibers[i];
      if (fiber.ended) continue;
      switch_to(own, fiber);
      any = any || !fiber.ended;
    }
    if (!any) break;
    if (own.failed) continue;
    try {
      answer();
    } catch (...) {
      own.failed = std::current_exception();
    }
  }
  own.failed = nullptr;
  for (std::size_t i = 0; i < count; ++i) {
    if (own.fibers[i]->thrown) std::rethrow_exception(own.fibers[i]->thrown);
  }
}

void Fibers::wait() {
  Thread& own = thread();
  switch_outside(own, *own.running);
  if (own.failed) std::rethrow_exception(own.failed);
}

bool Fibers::inside() { return thread().running != nullptr; }

}  // namespace photonlane

// What the sanitizers, where the tests are built with them, take from us when the program starts.

#include <cstdlib>

extern "C" {

/// A request that no memory can meet gives null, as without the sanitizer.
const char* __asan_default_options() { return "allocator_may_return_null=1"; }

/// Caches that fontconfig keeps until the program ends; not ours to free.
const char* __lsan_default_suppressions() { return "leak:libfontconfig\n"; }
const char* __lsan_default_options() { return "print_suppressions=0"; }
}

namespace {

/// The tool and the examples, which the tests start, are asked for no leaks of fontconfig's either.
[[maybe_unused]] const int children = setenv("ASAN_OPTIONS", "detect_leaks=0", 0);

}  // namespace

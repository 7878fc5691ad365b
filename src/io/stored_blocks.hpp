#pragma once

#include <fmt/format.h>

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <string>
#include <vector>

#include "io/mapped_file.hpp"

namespace photonlane::io {

/// Files that are used as they lie: a head of 4096 bytes, arrays, and a checksum for each megabyte
/// of them. The head is written last, so a file that was left half written has none.
inline constexpr std::uint64_t stored_head_bytes = 4096;
inline constexpr std::uint64_t stored_block_bytes = std::uint64_t{1} << 20;

std::uint64_t stored_blocks(std::uint64_t bytes);
std::uint64_t checksum_of(const void* bytes, std::uint64_t count);
[[noreturn]] void refuse_file(const std::string& path, const std::string& what);

/// The beginning of such a file: a word of 24 bytes, a version, the head's own length, what else it
/// has, and its checksum last. Throws Error (file) where it is none of `what`, of that version.
template <class Head>
Head read_stored_head(const MappedFile& file, const char (&word)[24], std::uint32_t version,
                      const char* what) {
  Head head;
  static_assert(sizeof(Head) <= stored_head_bytes);
  if (file.size() < stored_head_bytes) {
    refuse_file(file.path(), fmt::format("no file of {}: too short for its head", what));
  }
  std::memcpy(&head, file.data(), sizeof(head));
  if (std::memcmp(head.word, word, sizeof(word)) != 0) {
    refuse_file(file.path(), fmt::format("no file of {}, or one that was left half written", what));
  }
  if (head.version != version || head.bytes != sizeof(head)) {
    refuse_file(file.path(),
                fmt::format("{} of version {}, expected {}", what, head.version, version));
  }
  if (checksum_of(file.data(), offsetof(Head, checksum)) != head.checksum) {
    refuse_file(file.path(), "its head is damaged");
  }
  return head;
}
/// A new one, without its checksum.
template <class Head>
Head new_stored_head(const char (&word)[24], std::uint32_t version) {
  Head head{};
  std::memcpy(head.word, word, sizeof(word));
  head.version = version;
  head.bytes = sizeof(head);
  return head;
}

/// Writes the arrays of such a file, one behind the other.
class StoreWriter {
 public:
  /// To a new file; what is said of it goes by `told`. Throws Error (file).
  StoreWriter(const std::string& path, std::string told);
  StoreWriter(const StoreWriter&) = delete;
  StoreWriter& operator=(const StoreWriter&) = delete;
  ~StoreWriter();

  void append(const void* bytes, std::uint64_t count);
  std::uint64_t written() const { return written_; }
  /// Writes the checksums, then the head with those it has, and closes the file.
  template <class Head>
  void finish(Head& head) {
    head.checksums = put_checksums();
    head.checksum = checksum_of(&head, offsetof(Head, checksum));
    put_head(&head, sizeof(head));
  }

 private:
  void put(const void* bytes, std::uint64_t count);
  void end_block();
  /// Returns the checksum of them all.
  std::uint64_t put_checksums();
  void put_head(const void* head, std::uint64_t count);

  std::string told_;
  int file_ = -1;
  std::uint64_t written_ = 0;
  std::vector<std::byte> block_;
  std::vector<std::uint64_t> sums_;
};

/// Holds arrays against the checksums behind them. Throws Error (file) where one is wrong; with
/// `whole`, where some block is damaged.
void check_blocks(const std::string& path, const std::byte* arrays, std::uint64_t bytes,
                  std::uint64_t checksums, bool whole);

}  // namespace photonlane::io

#pragma once

#include <cstddef>
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

namespace photonlane::io {

/// Files that are used as they lie: a head of 4096 bytes, arrays, and a checksum for each megabyte
/// of them. The head is written last, so a file that was left half written has none.
inline constexpr std::uint64_t stored_head_bytes = 4096;
inline constexpr std::uint64_t stored_block_bytes = std::uint64_t{1} << 20;

std::uint64_t stored_blocks(std::uint64_t bytes);
std::uint64_t checksum_of(const void* bytes, std::uint64_t count);
[[noreturn]] void refuse_file(const std::string& path, const std::string& what);

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
  /// Writes the checksums; returns the one of them all.
  std::uint64_t finish();
  /// Writes the head and closes the file.
  void put_head(const void* head, std::uint64_t count);

 private:
  void put(const void* bytes, std::uint64_t count);
  void end_block();

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

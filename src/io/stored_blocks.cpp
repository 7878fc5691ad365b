#include "io/stored_blocks.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <bit>
#include <cerrno>
#include <cstring>

#include "base/parallel.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"

namespace photonlane::io {

static_assert(std::endian::native == std::endian::little, "files are written as they are kept");

std::uint64_t stored_blocks(std::uint64_t bytes) {
  return (bytes + stored_block_bytes - 1) / stored_block_bytes;
}

std::uint64_t checksum_of(const void* from, std::uint64_t count) {
  const auto* const bytes = static_cast<const std::byte*>(from);
  // Four rows, so that one word need not wait for the one before.
  std::uint64_t rows[4] = {1, 2, 3, 4};
  std::uint64_t at = 0;
  const auto word = [&](std::uint64_t where) {
    std::uint64_t value = 0;
    std::memcpy(&value, bytes + where, std::min<std::uint64_t>(8, count - where));
    return value;
  };
  for (; at + 32 <= count; at += 32) {
    for (std::uint64_t row = 0; row < 4; ++row) {
      rows[row] = std::rotl((rows[row] ^ word(at + 8 * row)) * 0x9e3779b97f4a7c15u, 29);
    }
  }
  for (; at < count; at += 8) rows[0] = std::rotl((rows[0] ^ word(at)) * 0x9e3779b97f4a7c15u, 29);
  return mix(mix(rows[0] + mix(rows[1])) + mix(rows[2] + mix(rows[3])) + count);
}

void refuse_file(const std::string& path, const std::string& what) {
  throw Error(ErrorKind::file, what, Place{path});
}

StoreWriter::StoreWriter(const std::string& path, std::string told) : told_(std::move(told)) {
  file_ = open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
  if (file_ < 0) refuse_file(told_, fmt::format("cannot be written: {}", std::strerror(errno)));
  const std::vector<std::byte> none(stored_head_bytes);
  try {
    put(none.data(), none.size());
  } catch (...) {
    close(file_);
    throw;
  }
}

StoreWriter::~StoreWriter() {
  if (file_ >= 0) close(file_);
}

void StoreWriter::put(const void* bytes, std::uint64_t count) {
  const auto* at = static_cast<const std::byte*>(bytes);
  while (count > 0) {
    const ssize_t done = ::write(file_, at, std::min<std::uint64_t>(count, std::uint64_t{1} << 24));
    if (done < 0 && errno == EINTR) continue;
    if (done < 0) refuse_file(told_, fmt::format("cannot be written: {}", std::strerror(errno)));
    at += done;
    count -= static_cast<std::uint64_t>(done);
  }
}

void StoreWriter::end_block() {
  sums_.push_back(checksum_of(block_.data(), block_.size()));
  put(block_.data(), block_.size());
  block_.clear();
}

void StoreWriter::append(const void* bytes, std::uint64_t count) {
  const auto* at = static_cast<const std::byte*>(bytes);
  written_ += count;
  while (count > 0) {
    const std::uint64_t part = std::min(count, stored_block_bytes - block_.size());
    block_.insert(block_.end(), at, at + part);
    at += part;
    count -= part;
    if (block_.size() == stored_block_bytes) end_block();
  }
}

std::uint64_t StoreWriter::put_checksums() {
  if (!block_.empty()) end_block();
  put(sums_.data(), sums_.size() * sizeof(sums_[0]));
  return checksum_of(sums_.data(), sums_.size() * sizeof(sums_[0]));
}

void StoreWriter::put_head(const void* head, std::uint64_t count) {
  if (lseek(file_, 0, SEEK_SET) != 0) {
    refuse_file(told_, fmt::format("cannot be written: {}", std::strerror(errno)));
  }
  put(head, count);
  if (close(std::exchange(file_, -1)) != 0) {
    refuse_file(told_, fmt::format("cannot be written: {}", std::strerror(errno)));
  }
}

void check_blocks(const std::string& path, const std::byte* arrays, std::uint64_t bytes,
                  std::uint64_t checksums, bool whole) {
  std::vector<std::uint64_t> sums(stored_blocks(bytes));
  std::memcpy(sums.data(), arrays + bytes, sums.size() * sizeof(sums[0]));
  if (checksum_of(sums.data(), sums.size() * sizeof(sums[0])) != checksums) {
    refuse_file(path, "its checksums are damaged");
  }
  if (!whole) return;
  std::vector<std::uint8_t> damaged(sums.size(), 0);
  parallel_for(0, sums.size(), [&](std::size_t block) {
    const std::uint64_t first = block * stored_block_bytes;
    damaged[block] =
        checksum_of(arrays + first, std::min(stored_block_bytes, bytes - first)) != sums[block];
  });
  const auto found = std::find(damaged.begin(), damaged.end(), 1);
  if (found == damaged.end()) return;
  const auto first =
      stored_head_bytes + static_cast<std::uint64_t>(found - damaged.begin()) * stored_block_bytes;
  refuse_file(path, fmt::format("damaged between bytes {} and {}", first,
                                std::min(first + stored_block_bytes, stored_head_bytes + bytes)));
}

}  // namespace photonlane::io

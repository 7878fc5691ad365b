#include <fmt/format.h>
#include <mpi.h>

#include <chrono>
#include <condition_variable>
#include <cstdlib>
#include <cstring>
#include <deque>
#include <limits>
#include <mutex>
#include <thread>

#include "photonlane/base/error.hpp"
#include "photonlane/many/company.hpp"

namespace photonlane {
namespace {

enum Tag : int { asking, giving, delivering };

/// Pieces that are none.
constexpr std::uint64_t no_more = ~std::uint64_t{0};

/// Between looks for messages: short beside a tile, long beside a look.
constexpr auto pause = std::chrono::microseconds(500);

/// All calls of MPI are made by one thread.
class MpiCompany final : public Company {
 public:
  MpiCompany() {
    int provided = 0;
    MPI_Init_thread(nullptr, nullptr, MPI_THREAD_FUNNELED, &provided);
    MPI_Comm_rank(MPI_COMM_WORLD, &rank_);
    MPI_Comm_size(MPI_COMM_WORLD, &size_);
    exceptions_ = std::uncaught_exceptions();
  }
  ~MpiCompany() override {
    // Who leaves by an error does not wait for the others, and they need not wait for it.
    if (std::uncaught_exceptions() > exceptions_) MPI_Abort(MPI_COMM_WORLD, 1);
    MPI_Finalize();
  }
  MpiCompany(const MpiCompany&) = delete;
  MpiCompany& operator=(const MpiCompany&) = delete;

  int rank() const override { return rank_; }
  int size() const override { return size_; }
  Traffic traffic() const override { return traffic_; }

  void give_up(int code) override {
    MPI_Abort(MPI_COMM_WORLD, code);
    std::abort();
  }

  void broadcast(Bytes& bytes) override {
    std::uint64_t count = bytes.size();
    MPI_Bcast(&count, 1, MPI_UINT64_T, 0, MPI_COMM_WORLD);
    bytes.resize(count);
    check_count(count);
    MPI_Bcast(bytes.data(), static_cast<int>(count), MPI_BYTE, 0, MPI_COMM_WORLD);
    count_message(count);
  }

  std::vector<Bytes> gather(const Bytes& own) override {
    check_count(own.size());
    const int count = static_cast<int>(own.size());
    const auto all = static_cast<std::size_t>(size_);
    std::vector<int> counts(all);
    MPI_Allgather(&count, 1, MPI_INT, counts.data(), 1, MPI_INT, MPI_COMM_WORLD);
    const std::vector<int> places = places_of(counts);
    Bytes bytes(static_cast<std::size_t>(places.back() + counts.back()));
    MPI_Allgatherv(own.data(), count, MPI_BYTE, bytes.data(), counts.data(), places.data(),
                   MPI_BYTE, MPI_COMM_WORLD);
    count_message(own.size());
    return cut(bytes, counts, places);
  }

  std::vector<Bytes> swap(const std::vector<Bytes>& own) override {
    const auto all = static_cast<std::size_t>(size_);
    std::vector<int> counts(all);
    std::vector<int> to(all);
    Bytes sent;
    for (std::size_t rank = 0; rank < all; ++rank) {
      check_count(own[rank].size());
      to[rank] = static_cast<int>(own[rank].size());
      sent.insert(sent.end(), own[rank].begin(), own[rank].end());
    }
    MPI_Alltoall(to.data(), 1, MPI_INT, counts.data(), 1, MPI_INT, MPI_COMM_WORLD);
    const std::vector<int> to_places = places_of(to);
    const std::vector<int> places = places_of(counts);
    Bytes bytes(static_cast<std::size_t>(places.back() + counts.back()));
    MPI_Alltoallv(sent.data(), to.data(), to_places.data(), MPI_BYTE, bytes.data(), counts.data(),
                  places.data(), MPI_BYTE, MPI_COMM_WORLD);
    count_message(sent.size());
    return cut(bytes, counts, places);
  }

  void share_out(std::span<const std::size_t> pieces, const std::function<Bytes(std::size_t)>& make,
                 const std::function<void(std::size_t, Bytes)>& take,
                 const std::function<bool()>& go_on) override {
    if (leads()) {
      lead(pieces, make, take, go_on);
    } else {
      work(make, go_on);
    }
    MPI_Barrier(MPI_COMM_WORLD);
  }

 private:
  static void check_count(std::uint64_t count) {
    if (count > static_cast<std::uint64_t>(std::numeric_limits<int>::max())) {
      throw Error(ErrorKind::memory,
                  fmt::format("a message of {} bytes, expected 2147483647 at most", count));
    }
  }
  /// Where pieces of such lengths begin, one behind the other.
  static std::vector<int> places_of(const std::vector<int>& counts) {
    std::vector<int> places;
    std::uint64_t at = 0;
    for (const int count : counts) {
      places.push_back(static_cast<int>(at));
      at += static_cast<std::uint64_t>(count);
      check_count(at);
    }
    return places;
  }
  static std::vector<Bytes> cut(const Bytes& bytes, const std::vector<int>& counts,
                                const std::vector<int>& places) {
    std::vector<Bytes> pieces;
    for (std::size_t k = 0; k < counts.size(); ++k) {
      const auto first = bytes.begin() + places[k];
      pieces.emplace_back(first, first + counts[k]);
    }
    return pieces;
  }
  void count_message(std::uint64_t bytes) {
    ++traffic_.messages;
    traffic_.bytes += bytes;
  }
  static bool is_there(int source, int tag, MPI_Status& status) {
    int there = 0;
    MPI_Iprobe(source, tag, MPI_COMM_WORLD, &there, &status);
    return there != 0;
  }

  /// What rank 0's own maker and its messages share.
  struct Desk {
    std::mutex mutex;
    std::condition_variable changed;
    std::deque<std::size_t> left;
    std::deque<std::pair<std::size_t, Bytes>> made;
    std::exception_ptr failed;
    bool stop = false;
    bool over = false;  ///< the maker is
    std::optional<std::size_t> next() {
      if (left.empty()) return {};
      const std::size_t piece = left.front();
      left.pop_front();
      return piece;
    }
  };

  void lead(std::span<const std::size_t> pieces, const std::function<Bytes(std::size_t)>& make,
            const std::function<void(std::size_t, Bytes)>& take,
            const std::function<bool()>& go_on) {
    Desk desk;
    desk.left.assign(pieces.begin(), pieces.end());
    // It makes pieces of its own beside.
    std::thread maker([&] {
      std::unique_lock lock(desk.mutex);
      try {
        while (!desk.stop) {
          const std::optional<std::size_t> piece = desk.next();
          if (!piece) break;
          lock.unlock();
          Bytes bytes = make(*piece);
          lock.lock();
          desk.made.emplace_back(*piece, std::move(bytes));
        }
      } catch (...) {
        if (!lock.owns_lock()) lock.lock();
        desk.failed = std::current_exception();
      }
      desk.over = true;
    });
    std::size_t taken = 0;
    int dismissed = 0;  // others that know that nothing is left
    try {
      while (taken < pieces.size() || dismissed < size_ - 1) {
        if (!go_on()) throw Error(ErrorKind::cancelled, "stopped by the caller");
        bool idle = true;
        {
          std::unique_lock lock(desk.mutex);
          if (desk.failed) std::rethrow_exception(desk.failed);
          while (!desk.made.empty()) {
            auto [piece, bytes] = std::move(desk.made.front());
            desk.made.pop_front();
            lock.unlock();
            take(piece, std::move(bytes));
            ++taken;
            idle = false;
            lock.lock();
          }
        }
        MPI_Status status;
        if (is_there(MPI_ANY_SOURCE, asking, status)) {
          MPI_Recv(nullptr, 0, MPI_BYTE, status.MPI_SOURCE, asking, MPI_COMM_WORLD,
                   MPI_STATUS_IGNORE);
          std::uint64_t piece = no_more;
          {
            const std::scoped_lock lock(desk.mutex);
            if (const auto next = desk.next()) piece = *next;
          }
          MPI_Send(&piece, 1, MPI_UINT64_T, status.MPI_SOURCE, giving, MPI_COMM_WORLD);
          count_message(sizeof piece);
          if (piece == no_more) ++dismissed;
          idle = false;
        }
        if (is_there(MPI_ANY_SOURCE, delivering, status)) {
          int count = 0;
          MPI_Get_count(&status, MPI_BYTE, &count);
          Bytes bytes(static_cast<std::size_t>(count));
          MPI_Recv(bytes.data(), count, MPI_BYTE, status.MPI_SOURCE, delivering, MPI_COMM_WORLD,
                   MPI_STATUS_IGNORE);
          count_message(bytes.size());
          std::uint64_t piece = 0;
          std::memcpy(&piece, bytes.data(), sizeof piece);
          bytes.erase(bytes.begin(), bytes.begin() + sizeof piece);
          take(piece, std::move(bytes));
          ++taken;
          idle = false;
        }
        if (idle) std::this_thread::sleep_for(pause);
      }
    } catch (...) {
      {
        const std::scoped_lock lock(desk.mutex);
        desk.stop = true;
      }
      maker.join();
      throw;
    }
    maker.join();
  }

  void work(const std::function<Bytes(std::size_t)>& make, const std::function<bool()>& go_on) {
    while (true) {
      if (!go_on()) throw Error(ErrorKind::cancelled, "stopped by the caller");
      MPI_Send(nullptr, 0, MPI_BYTE, 0, asking, MPI_COMM_WORLD);
      MPI_Status status;
      while (!is_there(0, giving, status)) std::this_thread::sleep_for(pause);
      std::uint64_t piece = no_more;
      MPI_Recv(&piece, 1, MPI_UINT64_T, 0, giving, MPI_COMM_WORLD, MPI_STATUS_IGNORE);
      if (piece == no_more) return;
      Bytes bytes = make(piece);
      Bytes message(sizeof piece + bytes.size());
      check_count(message.size());
      std::memcpy(message.data(), &piece, sizeof piece);
      std::memcpy(message.data() + sizeof piece, bytes.data(), bytes.size());
      MPI_Send(message.data(), static_cast<int>(message.size()), MPI_BYTE, 0, delivering,
               MPI_COMM_WORLD);
      count_message(message.size());
    }
  }

  int rank_ = 0;
  int size_ = 1;
  int exceptions_ = 0;
  Traffic traffic_;
};

}  // namespace

bool has_many() { return true; }

std::unique_ptr<Company> join_company() {
  // Alone, nothing is started that would look for others.
  for (const char* const name : {"OMPI_COMM_WORLD_SIZE", "SLURM_STEP_NUM_TASKS"}) {
    const char* const count = std::getenv(name);
    if (count != nullptr && std::atoi(count) > 1) return std::make_unique<MpiCompany>();
  }
  return no_company();
}

}  // namespace photonlane

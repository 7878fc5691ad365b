#include "live/server.hpp"

#include <fmt/format.h>
#include <httplib.h>

#include <atomic>
#include <charconv>
#include <filesystem>
#include <fstream>
#include <map>

#include "live/assets.hpp"
#include "live/connections.hpp"
#include "live/guard.hpp"
#include "live/sitting.hpp"

namespace photonlane::live {
namespace {

using httplib::Request;
using httplib::Response;

constexpr std::size_t most_sittings = 12;
constexpr std::size_t most_body = std::size_t{5} << 20;
constexpr double longest_wait = 5;     // seconds that a request for a picture waits for one
constexpr double left_alone_for = 30;  // seconds until a page that asks nothing is taken as closed

struct Asset {
  const char* path;
  const char* type;
  std::string_view content;
};
std::span<const Asset> assets() {
  static const Asset all[] = {
      {"/", "text/html; charset=utf-8", index_html},
      {"/live.css", "text/css", live_css},
      {"/main.js", "text/javascript", main_js},
      {"/link.js", "text/javascript", link_js},
      {"/picture.js", "text/javascript", picture_js},
      {"/knobs.js", "text/javascript", knobs_js},
      {"/price.js", "text/javascript", price_js},
      {"/text.js", "text/javascript", text_js},
      {"/bootstrap.css", "text/css", bootstrap_css},
      {"/bootstrap.js", "text/javascript", bootstrap_js},
      {"/chart.js", "text/javascript", chart_js},
      {"/codemirror.css", "text/css", codemirror_css},
      {"/codemirror.js", "text/javascript", codemirror_js},
      {"/yaml.js", "text/javascript", yaml_js},
  };
  return all;
}

/// JSON, where bytes that are not UTF-8 (of file names) become U+FFFD.
std::string text_of(const Json& json) {
  return json.dump(-1, ' ', false, Json::error_handler_t::replace);
}

void answer(Response& response, const Json& json) {
  response.set_content(text_of(json), "application/json");
}
void refuse(Response& response, int status, const std::string& why) {
  response.status = status;
  answer(response, {{"error", why}});
}

int status_of(ErrorKind kind) {
  switch (kind) {
    case ErrorKind::input:
    case ErrorKind::usage:
      return 400;
    case ErrorKind::file:
      return 409;
    case ErrorKind::memory:
      return 507;
    case ErrorKind::cancelled:
      return 503;
  }
  return 500;
}

/// A number of the request's address.
double parameter(const Request& request, const char* name, double low, double high) {
  const std::string text = request.get_param_value(name);
  double value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (problem != std::errc() || end != text.data() + text.size() || !(value >= low) ||
      !(value <= high)) {
    throw Error(ErrorKind::input, fmt::format("{}: expected a number, {} to {}", name, low, high));
  }
  return value;
}

Json body_of(const Request& request) {
  Json body = Json::parse(request.body, nullptr, false);
  if (body.is_discarded()) throw Error(ErrorKind::input, "the request's body is no JSON");
  return body;
}

/// A file that only this process knows, for what can only be written to files.
std::string bytes_by_file(const std::string& ending,
                          const std::function<void(const std::string&)>& write) {
  namespace fs = std::filesystem;
  std::string folder = (fs::temp_directory_path() / "photonlane-XXXXXX").string();
  if (mkdtemp(folder.data()) == nullptr) {
    throw Error(ErrorKind::file, "no temporary folder can be made");
  }
  const std::string path = folder + "/picture" + ending;
  std::string bytes;
  try {
    write(path);
    std::ifstream stream(path, std::ios::binary);
    bytes.assign(std::istreambuf_iterator<char>(stream), {});
  } catch (...) {
    fs::remove_all(folder);
    throw;
  }
  fs::remove_all(folder);
  return bytes;
}

}  // namespace

struct Server::Inside {
  std::vector<std::shared_ptr<Desk>> desks;
  ServerOptions options;
  int port = 0;
  RateLimit rate{2000, 4000};
  RateLimit files{200, 1000};
  RateLimit wrong_tokens{5, 20};
  httplib::Server http;
  std::mutex mutex;
  std::map<std::string, std::shared_ptr<Sitting>> sittings;
  std::vector<std::shared_ptr<Sitting>>
      ending;  ///< until keep_house() has waited for their threads
  std::atomic<bool> closing{false};
  std::condition_variable wake;
  std::thread listener, keeper;

  void open(std::size_t scene, Response& response) {
    const std::lock_guard lock(mutex);
    if (sittings.size() == most_sittings) {
      refuse(response, 429, fmt::format("{} pages are open, expected no more", most_sittings));
      return;
    }
    const std::string id = make_token();
    sittings.emplace(id, std::make_shared<Sitting>(desks[scene], options.threads));
    answer(response, {{"id", id}});
  }
  std::shared_ptr<Sitting> find(const std::string& id) {
    const std::lock_guard lock(mutex);
    const auto found = sittings.find(id);
    return found == sittings.end() ? nullptr : found->second;
  }
  void close(const std::string& id) {
    const std::lock_guard lock(mutex);
    const auto found = sittings.find(id);
    if (found == sittings.end()) return;
    found->second->end();
    ending.push_back(std::move(found->second));
    sittings.erase(found);
    wake.notify_all();
  }

  void keep_house() {
    std::unique_lock lock(mutex);
    while (!closing) {
      wake.wait_for(lock, std::chrono::seconds(2));
      for (auto at = sittings.begin(); at != sittings.end();) {
        if (at->second->idle_seconds() > left_alone_for) {
          ending.push_back(std::move(at->second));
          at = sittings.erase(at);
        } else {
          ++at;
        }
      }
      std::vector<std::shared_ptr<Sitting>> over = std::exchange(ending, {});
      lock.unlock();
      over.clear();
      lock.lock();
    }
  }

  /// What is asked before anything else of a request. True: it goes on.
  bool admit(const Request& request, Response& response) {
    if (!is_own_host(request.get_header_value("Host"), options.address)) {
      refuse(response, 403, "the Host header names another machine");
      return false;
    }
    const std::string origin = request.get_header_value("Origin");
    const std::string site = request.get_header_value("Sec-Fetch-Site");
    if ((!origin.empty() && !is_own_origin(origin, request.get_header_value("Host"))) ||
        (!site.empty() && site != "same-origin" && site != "none")) {
      refuse(response, 403, "asked by a page of another site");
      return false;
    }
    if (request.path.starts_with("/api/")) {
      const std::string given = request.get_header_value("Authorization");
      if (!equal_in_constant_time(given, "Bearer " + options.token)) {
        const bool again = wrong_tokens.admit();
        refuse(response, again ? 401 : 429, "the token is missing or wrong");
        return false;
      }
    }
    // Strangers do not use up what pages may ask.
    if (!(request.path.starts_with("/api/") ? rate : files).admit()) {
      refuse(response, 429, "too many requests a second");
      return false;
    }
    return true;
  }

  using Answer = std::function<void(Sitting&, const Request&, Response&)>;
  httplib::Server::Handler of_sitting(Answer tell) {
    return [this, tell = std::move(tell)](const Request& request, Response& response) {
      guarded(response, [&] {
        const auto sitting = find(request.matches[1].str());
        if (!sitting) {
          refuse(response, 404, "no such page is open");
        } else {
          tell(*sitting, request, response);
        }
      });
    };
  }
  static void guarded(Response& response, const std::function<void()>& work) {
    try {
      work();
    } catch (const Error& error) {
      refuse(response, status_of(error.kind()), error.what());
    } catch (const Json::exception&) {
      refuse(response, 400, "the request is not written as the protocol says");
    } catch (const std::bad_alloc&) {
      refuse(response, 507, "out of memory");
    }
  }

  void add_pages();
  void add_sittings();
  void add_keeping();
};

void Server::Inside::add_pages() {
  for (const Asset& asset : assets()) {
    std::string pattern;
    for (const char letter : std::string_view(asset.path)) {
      if (letter == '.') pattern += '\\';
      pattern += letter;
    }
    http.Get(pattern, [asset](const Request&, Response& response) {
      response.set_content(asset.content.data(), asset.content.size(), asset.type);
    });
  }
  http.Get("/api/scenes", [this](const Request&, Response& response) {
    Json all = Json::array();
    for (const auto& desk : desks) {
      all.push_back({{"path", desk->path()}, {"title", desk->scene()->file.scene.title}});
    }
    answer(response, all);
  });
  http.Post("/api/sittings", [this](const Request& request, Response& response) {
    guarded(response, [&] {
      const Json body = body_of(request);
      const auto scene = body.at("scene").get<std::size_t>();
      if (scene >= desks.size()) throw Error(ErrorKind::input, "no such scene");
      open(scene, response);
    });
  });
  http.Delete("/api/sittings/([0-9a-f]{32})", [this](const Request& request, Response& response) {
    close(request.matches[1].str());
    answer(response, Json::object());
  });
}

void Server::Inside::add_sittings() {
  const std::string at = "/api/sittings/([0-9a-f]{32})";
  http.Post(at + "/acts",
            of_sitting([](Sitting& sitting, const Request& request, Response& response) {
              const Json acts = body_of(request);
              if (!acts.is_array() || acts.size() > 1000) {
                throw Error(ErrorKind::input, "expected a list of at most 1000 acts");
              }
              answer(response, sitting.act(acts));
            }));
  http.Get(at + "/picture",
           of_sitting([](Sitting& sitting, const Request& request, Response& response) {
             const auto after = static_cast<std::uint64_t>(parameter(request, "after", 0, 1e15));
             const double wait = parameter(request, "wait", 0, longest_wait);
             const auto shown = sitting.next(after, wait);
             if (!shown) {
               response.status = 204;
               response.set_header("Live-Progress", text_of(sitting.progress()));
               return;
             }
             // What it is stands before what it looks like: a length in 8 digits, JSON, the
             // picture.
             const std::string facts = text_of(shown->facts);
             std::string body = fmt::format("{:08}", facts.size()) + facts + shown->bytes;
             response.set_header("Live-Type", shown->type);
             response.set_content(std::move(body), "application/octet-stream");
           }));
  http.Get(at + "/progress", of_sitting([](Sitting& sitting, const Request&, Response& response) {
             answer(response, sitting.progress());
           }));
  http.Get(at + "/knobs", of_sitting([](Sitting& sitting, const Request&, Response& response) {
             answer(response, sitting.knobs());
           }));
  http.Get(at + "/state", of_sitting([](Sitting& sitting, const Request&, Response& response) {
             answer(response, sitting.state());
           }));
  const auto place = [](const Request& request) {
    return std::pair{parameter(request, "x", 0, 1), parameter(request, "y", 0, 1)};
  };
  http.Get(at + "/pixel",
           of_sitting([place](Sitting& sitting, const Request& request, Response& response) {
             const auto [x, y] = place(request);
             answer(response, sitting.pixel(x, y));
           }));
  http.Get(
      at + "/find", of_sitting([](Sitting& sitting, const Request& request, Response& response) {
        const bool branching = request.get_param_value("kind") == "branching";
        answer(response, sitting.find(branching ? LandmarkKind::branching : LandmarkKind::copy));
      }));
  http.Get(at + "/lane",
           of_sitting([place](Sitting& sitting, const Request& request, Response& response) {
             const auto [x, y] = place(request);
             answer(response, sitting.lane(x, y));
           }));
  http.Get(at + "/lane\\.png",
           of_sitting([place](Sitting& sitting, const Request& request, Response& response) {
             const auto [x, y] = place(request);
             response.set_content(io::png_bytes(sitting.lane_plan(x, y)), "image/png");
           }));
  http.Post(at + "/still\\.png",
            of_sitting([](Sitting& sitting, const Request& request, Response& response) {
              std::vector<std::pair<std::string, std::string>> changed;
              for (const Json& one : body_of(request)) {
                changed.emplace_back(one.at("name").get<std::string>(),
                                     one.at("value").get<std::string>());
              }
              const Frame frame = sitting.still(changed, {Layer::display});
              response.set_content(io::png_bytes(io::to_picture(frame)), "image/png");
            }));
}

void Server::Inside::add_keeping() {
  const std::string at = "/api/sittings/([0-9a-f]{32})";
  http.Get(at + "/picture\\.png",
           of_sitting([](Sitting& sitting, const Request&, Response& response) {
             const Frame frame = sitting.still({Layer::display});
             response.set_content(io::png_bytes(io::to_picture(frame)), "image/png");
           }));
  http.Get(
      at + "/picture\\.exr", of_sitting([](Sitting& sitting, const Request&, Response& response) {
        LayerSet layers = measurable_layers(sitting.desk()->scene()->world);
        layers.remove({Layer::cost, Layer::work});
        Frame frame = sitting.still(layers);
        response.set_content(
            bytes_by_file(".exr", [&](const std::string& path) { io::write_frame(path, frame); }),
            "image/x-exr");
      }));
  http.Get(at + "/difference\\.png",
           of_sitting([](Sitting& sitting, const Request&, Response& response) {
             response.set_content(sitting.difference(), "image/png");
           }));
  http.Get(at + "/walk\\.yaml",
           of_sitting([](Sitting& sitting, const Request&, Response& response) {
             response.set_content(sitting.walk_script(), "text/yaml");
           }));
  http.Get(at + "/report\\.html",
           of_sitting([](Sitting& sitting, const Request&, Response& response) {
             response.set_content(sitting.report(), "text/html");
           }));
  http.Post(at + "/budget", of_sitting([](Sitting& sitting, const Request&, Response& response) {
              sitting.write_budget();
              answer(response, Json::object());
            }));
  http.Post(at + "/camera", of_sitting([](Sitting& sitting, const Request&, Response& response) {
              sitting.write_camera();
              answer(response, Json::object());
            }));
  http.Get(at + "/text", of_sitting([](Sitting& sitting, const Request&, Response& response) {
             const Desk& desk = *sitting.desk();
             const std::uint64_t version = desk.version();
             answer(response, {{"text", desk.text()}, {"version", version}});
           }));
  http.Put(at + "/text",
           of_sitting([](Sitting& sitting, const Request& request, Response& response) {
             const Json body = body_of(request);
             Desk& desk = *sitting.desk();
             const auto trouble = desk.take_text(body.at("text").get<std::string>(),
                                                 body.at("version").get<std::uint64_t>());
             Json told{{"version", desk.version()}, {"written", desk.may_write()}};
             if (trouble) told["trouble"] = trouble_facts(*trouble);
             answer(response, told);
           }));
}

Server::Server(std::vector<std::shared_ptr<Desk>> desks, const ServerOptions& options)
    : inside_(std::make_unique<Inside>()) {
  Inside& in = *inside_;
  in.desks = std::move(desks);
  in.options = options;
  httplib::Server& http = in.http;
  http.new_task_queue = [] { return new Connections; };
  http.set_payload_max_length(most_body);
  http.set_read_timeout(5);
  http.set_write_timeout(10);
  // Who asks nothing for so long connects again; it is how long ending may take.
  http.set_keep_alive_timeout(2);
  http.set_keep_alive_max_count(100000);
  http.set_tcp_nodelay(true);
  // A port that somebody else listens at is not shared.
  http.set_socket_options([](int socket) {
    const int yes = 1;
    setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
  });
  http.set_default_headers(
      {{"Content-Security-Policy",
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; "
        "connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"},
       {"X-Content-Type-Options", "nosniff"},
       {"Referrer-Policy", "no-referrer"},
       {"Cross-Origin-Resource-Policy", "same-origin"},
       {"Cross-Origin-Opener-Policy", "same-origin"},
       {"Cache-Control", "no-store"}});
  http.set_pre_routing_handler([&in](const Request& request, Response& response) {
    return in.admit(request, response) ? httplib::Server::HandlerResponse::Unhandled
                                       : httplib::Server::HandlerResponse::Handled;
  });
  http.set_exception_handler([](const Request&, Response& response, std::exception_ptr) {
    refuse(response, 500, "the request could not be answered");
  });
  http.set_error_handler([](const Request&, Response& response) {
    if (response.body.empty()) refuse(response, response.status, "nothing is here");
  });
  in.add_pages();
  in.add_sittings();
  in.add_keeping();
  if (options.port == 0) {
    in.port = http.bind_to_any_port(options.address);
  } else {
    in.port = http.bind_to_port(options.address, options.port) ? options.port : -1;
  }
  if (in.port < 0) {
    throw Error(ErrorKind::usage, fmt::format("--port {}: {} cannot be listened at there",
                                              options.port, one_line(options.address)));
  }
  for (const auto& desk : in.desks) {
    desk->watch([&in, raw = desk.get()] {
      std::vector<std::shared_ptr<Sitting>> all;
      {
        const std::lock_guard lock(in.mutex);
        for (const auto& [id, sitting] : in.sittings) {
          if (sitting->desk().get() == raw) all.push_back(sitting);
        }
      }
      for (const auto& sitting : all) sitting->look_again();
    });
  }
  in.keeper = std::thread([&in] { in.keep_house(); });
  in.listener = std::thread([&in] { in.http.listen_after_bind(); });
}

Server::~Server() {
  Inside& in = *inside_;
  for (const auto& desk : in.desks) desk->watch({});
  {
    const std::lock_guard lock(in.mutex);
    in.closing = true;
  }
  in.wake.notify_all();
  in.keeper.join();
  // Pages first: requests that wait for pictures end with them.
  std::map<std::string, std::shared_ptr<Sitting>> last;
  {
    const std::lock_guard lock(in.mutex);
    last = std::exchange(in.sittings, {});
  }
  for (const auto& [id, sitting] : last) sitting->end();
  in.http.stop();
  in.listener.join();
}

std::string Server::address() const {
  const std::string& bound = inside_->options.address;
  const std::string host = bound.find(':') == std::string::npos ? bound : "[" + bound + "]";
  return fmt::format("http://{}:{}/#{}", host == "0.0.0.0" ? "127.0.0.1" : host, inside_->port,
                     inside_->options.token);
}

}  // namespace photonlane::live

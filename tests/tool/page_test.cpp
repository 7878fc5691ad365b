// Pages of results, in a browser: they load without errors or a network, hovering shows values,
// sorting sorts, pictures are there, and text of a user's stays text.

#include <gmock/gmock.h>

#include <nlohmann/json.hpp>

#include "support/effort.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using test::Outcome;
using ::testing::HasSubstr;
using ::testing::Not;
using Json = nlohmann::json;

/// Put in front of all other scripts.
constexpr const char* watch =
    "<script>window.failures = [];"
    "window.addEventListener('error', (event) => failures.push(String(event.message)), true);"
    "</script>";

/// Opens the page and waits until it has said what it has seen, up to a minute.
constexpr const char* browse = R"sh(
chromium --headless --no-sandbox --disable-gpu --enable-logging=stderr --remote-debugging-port=0 \
         --user-data-dir="$PWD/profile" --window-size=$1,800 "file://$PWD/visited.html" \
         > /dev/null 2> told &
browser=$!
for i in $(seq 600); do
  if grep -q 'seen:.*:' told; then break; fi
  sleep 0.1
done
kill $browser
wait $browser 2> /dev/null
grep 'seen:' told
)sh";

/// Does what a person would do, and says what came of it.
constexpr const char* visit = R"js(<script>
const after = (ms) => new Promise((go) => setTimeout(go, ms));
window.addEventListener('load', async () => {
  const seen = {title: document.title, head: document.querySelector('h1').textContent};
  try {
    seen.lead = (document.querySelector('.lead') || {}).textContent;
    seen.loaded = performance.getEntriesByType('resource').map((one) => one.name)
                      .filter((name) => !name.startsWith('data:'));
    seen.hover = [];
    for (const canvas of document.querySelectorAll('canvas[id^=chart]')) {
      const chart = Chart.getChart(canvas);
      for (let set = 0; set < chart.data.datasets.length; ++set) {
        const point = chart.getDatasetMeta(set).data[0];
        if (!point || chart.data.datasets[set].data[0].label === undefined) continue;
        canvas.scrollIntoView();
        const box = canvas.getBoundingClientRect();
        const at = {clientX: box.left + point.x, clientY: box.top + point.y, bubbles: true};
        canvas.dispatchEvent(new MouseEvent('mousemove', at));
        await after(120);
        seen.hover.push({opacity: chart.tooltip.opacity, title: chart.tooltip.title.join(' '),
                         lines: chart.tooltip.body.flatMap((part) => part.lines)});
        canvas.dispatchEvent(new MouseEvent('click', at));
        await after(120);
        seen.selected = document.querySelectorAll('tr.selected').length;
      }
    }
    seen.tables = [...document.querySelectorAll('table.sorts')].map((table) => {
      const column = [...table.tHead.rows[0].cells].findIndex((head) =>
          head.classList.contains('number'));
      const read = () => [...table.tBodies[0].rows].map((row) =>
          Number(row.cells[column].dataset.number));
      const head = table.tHead.rows[0].cells[column];
      if (!head) return {};
      head.click();
      const up = read();
      head.dispatchEvent(new KeyboardEvent('keydown', {key: 'Enter'}));
      return {name: table.closest('section').querySelector('h2').textContent, up, down: read()};
    });
    await Promise.all([...document.images].map((one) => one.decode().catch(() => {})));
    seen.images = [...document.images].filter((one) => one.naturalWidth > 1).length;
    seen.broken = [...document.images].filter((one) => one.naturalWidth <= 1).length;
    const mode = [...document.querySelectorAll('#compare select')].pop();
    if (mode) {
      const right = document.querySelectorAll('#compare select')[1];
      right.value = right.options.length - 1;
      right.dispatchEvent(new Event('change'));
      await after(120);
      mode.value = '8';
      mode.dispatchEvent(new Event('change'));
      const map = document.querySelector('#compare canvas');
      const data = map.getContext('2d').getImageData(0, 0, map.width, map.height).data;
      seen.difference = data.reduce((sum, byte, i) => sum + (i % 4 === 3 ? 0 : byte), 0);
    }
    seen.wide = document.documentElement.scrollWidth - document.documentElement.clientWidth;
  } catch (problem) {
    failures.push(String(problem.stack));
  }
  seen.failures = failures;
  console.log('seen:' + btoa(unescape(encodeURIComponent(JSON.stringify(seen)))) + ':');
});
</script>)js";

std::string decoded(const std::string& text) {
  constexpr std::string_view digits =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string bytes;
  unsigned bits = 0;
  int have = 0;
  for (const char c : text) {
    const std::size_t digit = digits.find(c);
    if (digit == digits.npos) break;
    bits = bits << 6 | static_cast<unsigned>(digit);
    if ((have += 6) < 8) continue;
    bytes += static_cast<char>(bits >> (have -= 8) & 255);
  }
  return bytes;
}

class Pages : public test::ToolRun {
 protected:
  void SetUp() override {
    if (test::effort(8) < 8) GTEST_SKIP() << "a browser needs no sanitizer of ours";
    if (std::system("command -v chromium > /dev/null 2>&1") != 0) {
      GTEST_SKIP() << "no chromium; apt-get install chromium";
    }
    folder.write("yard.yaml", yard("Yard"));
  }

  static std::string yard(const std::string& title) {
    return test::yard_text(title, "  frame: {width: 96, height: 60}\n");
  }

  /// Looks at a page as wide as that.
  Json look(const std::string& page, int width = 1280) {
    std::string html = folder.read(page);
    EXPECT_THAT(html, Not(HasSubstr("src=\"http")));
    EXPECT_THAT(html, Not(HasSubstr("href=")));
    const auto head = html.find("<head>");
    EXPECT_NE(head, html.npos);
    html.insert(head + 6, watch);
    html += visit;
    folder.write("visited.html", html);
    folder.write("browse.sh", browse);
    const Outcome outcome = test::run(fmt::format("sh browse.sh {}", width), folder);
    const auto at = outcome.output.find("seen:");
    if (at == outcome.output.npos) {
      ADD_FAILURE() << outcome.output.substr(0, 2000) << outcome.errors;
      return {};
    }
    Json seen = Json::parse(decoded(outcome.output.substr(at + 5)));
    EXPECT_TRUE(seen["failures"].empty()) << seen["failures"];
    EXPECT_TRUE(seen["loaded"].empty()) << seen["loaded"];
    EXPECT_EQ(seen["broken"], 0);
    // Nothing sticks out at the right.
    EXPECT_LE(seen["wide"].get<int>(), 0) << page;
    for (const Json& table : seen["tables"]) {
      if (!table.contains("up")) continue;
      std::vector<double> up;
      for (const Json& one : table["up"]) {
        if (one.is_number()) up.push_back(one.get<double>());
      }
      EXPECT_TRUE(std::is_sorted(up.begin(), up.end())) << table;
      std::vector<double> down;
      for (const Json& one : table["down"]) {
        if (one.is_number()) down.push_back(one.get<double>());
      }
      EXPECT_TRUE(std::is_sorted(down.rbegin(), down.rend())) << table;
      EXPECT_EQ(up.size(), down.size());
    }
    return seen;
  }
};

TEST_F(Pages, OfSweepsShowValuesAndPictures) {
  ASSERT_EQ(
      tool("sweep yard.yaml --vary frame.samples=1,2,4 --vary bounces.limit=0,1,2 --repeats 2 "
           "--limit rmse=0.05 -o out --quiet")
          .code,
      0);
  const Json seen = look("out/report.html");
  EXPECT_EQ(seen["head"], "Yard");
  EXPECT_THAT(seen["lead"].get<std::string>(), HasSubstr("Cheapest with rmse at most 0.05"));
  ASSERT_EQ(seen["hover"].size(), 3u);  // a series for each number of samples or bounces
  const Json table = Json::parse(folder.read("out/sweep.json"));
  for (const Json& hover : seen["hover"]) {
    EXPECT_EQ(hover["opacity"], 1) << hover;
    EXPECT_THAT(hover["title"].get<std::string>(), HasSubstr("samples="));
    ASSERT_EQ(hover["lines"].size(), 2u);
    EXPECT_THAT(hover["lines"][0].get<std::string>(), HasSubstr(" ms ("));
    EXPECT_THAT(hover["lines"][1].get<std::string>(), HasSubstr("rmse "));
  }
  EXPECT_EQ(seen["selected"], 1);  // the row of the point that was clicked last
  ASSERT_EQ(seen["tables"].size(), 1u);
  EXPECT_EQ(seen["tables"][0]["up"].size(), table["settings"].size());
  EXPECT_EQ(seen["images"], 2);
  EXPECT_GT(seen["difference"].get<double>(), 0);
  // All that made it stands in its tables.
  EXPECT_EQ(table["limits"]["rmse"], 0.05);
  EXPECT_TRUE(table["chosen"].is_number());
  EXPECT_EQ(table["scene"], "yard.yaml");
  EXPECT_EQ(table["scene_digest"].get<std::string>().size(), 32u);
  EXPECT_THAT(table["command"].get<std::string>(), HasSubstr("--limit rmse=0.05"));
  EXPECT_THAT(folder.read("out/report.html"), HasSubstr(table["scene_digest"].get<std::string>()));
}

TEST_F(Pages, FitAPhone) {
  ASSERT_EQ(tool("sweep yard.yaml --vary frame.samples=1,2 --repeats 1 -o out --quiet").code, 0);
  EXPECT_EQ(look("out/report.html", 500)["images"], 2);
}

TEST_F(Pages, OfTunedScenesShowBeforeAndAfter) {
  ASSERT_EQ(tool("tune yard.yaml --set frame.samples=4 --limit rmse=0.05 --vary "
                 "frame.samples=1,2,4 --vary "
                 "bounces.limit=0,1,2,4 --repeats 1 -o out --quiet")
                .code,
            0);
  const Json seen = look("out/report.html");
  EXPECT_THAT(seen["lead"].get<std::string>(), HasSubstr("ms before"));
  EXPECT_GE(seen["hover"].size(), 1u);
  EXPECT_EQ(seen["images"], 2);
  EXPECT_EQ(Json::parse(folder.read("out/tune.json"))["limits"]["rmse"], 0.05);
}

TEST_F(Pages, OfProfilesShowStagesRegionsAndKnobs) {
  ASSERT_EQ(tool("profile yard.yaml --repeats 1 -o out --quiet").code, 0);
  const Json seen = look("out/report.html");
  EXPECT_THAT(seen["lead"].get<std::string>(), HasSubstr("A frame takes"));
  EXPECT_EQ(seen["images"], 4);
  std::vector<std::string> names;
  for (const Json& table : seen["tables"]) names.push_back(table["name"]);
  EXPECT_THAT(names, ::testing::Contains("Where the time goes"));
  EXPECT_THAT(names, ::testing::Contains("Knobs turned alone by one notch"));
  EXPECT_EQ(seen["hover"].size(), 2u);
  EXPECT_THAT(folder.read("out/profile.csv"), HasSubstr("march,eye,"));
}

TEST_F(Pages, OfJudgementsShowWhatChanged) {
  folder.write("other.yaml", yard("Other"));
  ASSERT_EQ(tool("keep yard.yaml other.yaml --repeats 0 -o kept --quiet").code, 0);
  std::string changed = yard("Other");
  changed.replace(changed.find("radius: 0.4"), 11, "radius: 0.3");
  folder.write("other.yaml", changed);
  EXPECT_EQ(tool("judge kept --repeats 0 -o out --quiet").code, 1);
  const Json seen = look("out/report.html");
  EXPECT_EQ(seen["lead"], "1 of 2 do not hold.");
  EXPECT_EQ(seen["images"], 2);
  EXPECT_GT(seen["difference"].get<double>(), 0);
  EXPECT_THAT(folder.read("out/judge.csv"), HasSubstr("\nyard.yaml,true,true,"));
  EXPECT_THAT(folder.read("out/judge.csv"), HasSubstr("\nother.yaml,false,false,"));
}

TEST_F(Pages, TextOfAUserStaysText) {
  const std::string title =
      "</title></script><script>failures.push('ran')</script><img src=x onerror=alert(1)> & \"q\" "
      "'s'";
  folder.write("yard.yaml", yard("|-\n  " + title));
  ASSERT_EQ(tool("sweep yard.yaml --vary frame.samples=1,2 --repeats 1 -o 'out<b>&' --quiet").code,
            0);
  const Json seen = look("out<b>&/report.html");
  EXPECT_EQ(seen["head"], title);
  EXPECT_EQ(seen["title"], title);
}

TEST_F(Pages, AreRefusedBeforeTheWorkWhereTheyCannotBeWritten) {
  folder.write("file", "");
  EXPECT_THAT(refused("profile yard.yaml -o file/out"), HasSubstr("file"));
  ASSERT_EQ(tool("keep yard.yaml --repeats 0 -o kept --quiet").code, 0);
  EXPECT_THAT(refused("judge kept --repeats 0 -o file/out"), HasSubstr("file"));
}

}  // namespace
}  // namespace photonlane

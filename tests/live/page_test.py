"""The page of photonlane live in headless Chromium: what a person does, and what comes of it.

    page_test.py TOOL [TEST...]
"""

import os
import pathlib
import signal
import subprocess
import sys
import tempfile
import time
import unittest

from selenium import webdriver
from selenium.webdriver import ActionChains
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.actions.wheel_input import ScrollOrigin
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

TOOL = sys.argv.pop(1)

YARD = """title: Yard
camera: {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}
materials:
  mirror: {base: [0.8, 0.8, 0.8], specular: 0.7}
  floor: {base: [0.4, 0.5, 0.4]}
room:
  sky: {}
  light: {sun: {heading: 200}}
  solids:
    - field: {plane: {}, material: floor}
    - field: {place: {at: [0, 0, 0.5], of: {sphere: {radius: 0.5}}}, material: mirror}
budget: {frame: {width: 64, height: 40}}
"""
PLANE = "title: Plane\nplane: {}\nwindow: {center: [-0.5, 0], width: 3}\n"


class Server:
    def __init__(self, folder, *arguments):
        self.process = subprocess.Popen([TOOL, "live", *arguments], cwd=folder, text=True,
                                        stdout=subprocess.PIPE)
        self.address = self.process.stdout.readline().strip()

    def end(self, by=signal.SIGINT):
        self.process.send_signal(by)
        self.process.wait(30)
        self.process.stdout.close()


def open_browser(width=1280, height=800):
    options = webdriver.ChromeOptions()
    for word in ("--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars",
                 f"--window-size={width},{height}"):
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    browser = webdriver.Chrome(service=Service("/usr/bin/chromedriver"), options=options)
    browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride",
                            {"width": width, "height": height, "deviceScaleFactor": 1,
                             "mobile": width < 500})
    return browser


class LivePage(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.path = pathlib.Path(cls.folder.name)
        (cls.path / "yard.yaml").write_text(YARD)
        (cls.path / "plane.yaml").write_text(PLANE)
        cls.server = Server(cls.path, "yard.yaml", "plane.yaml", "--token-file", "token")
        cls.browser = open_browser()

    @classmethod
    def tearDownClass(cls):
        cls.browser.quit()
        cls.server.end()
        cls.folder.cleanup()

    def setUp(self):
        (self.path / "yard.yaml").write_text(YARD)
        self.browser.get("about:blank")
        self.browser.get(self.server.address)
        self.until(self.done)

    def tearDown(self):
        errors = [one["message"] for one in self.browser.get_log("browser")
                  if one["level"] == "SEVERE" and "Failed to load resource" not in one["message"]
                  and "ERR_" not in one["message"]]
        self.assertEqual(errors, [])

    # What a person has: eyes, a mouse, a keyboard.
    def js(self, text, *arguments):
        return self.browser.execute_script(text, *arguments)

    def until(self, holds, seconds=120):
        end = time.monotonic() + seconds
        while not holds():
            self.assertLess(time.monotonic(), end, "it did not come")
            time.sleep(0.05)

    def by(self, name):
        return self.browser.find_element(By.ID, name)

    def seen(self):
        """A number that another picture has otherwise."""
        return self.js("""
            const {canvas, context} = photon_lane.picture;
            const {data} = context.getImageData(0, 0, canvas.width, canvas.height);
            let sum = 0;
            for (const value of data) sum = (sum * 31 + value) | 0;
            return sum;""")

    def facts(self, name):
        return self.js("return photon_lane.picture.facts[arguments[0]]", name)

    def knob(self, name):
        return self.browser.find_element(By.CSS_SELECTOR, f'[data-knob="{name}"]')

    def done(self):
        """Whether the picture that stays is of all that was asked for."""
        return self.js("""
            const {sitting, picture, version} = window.photon_lane ?? {};
            return sitting?.is_quiet && picture.facts?.last && picture.facts.version >= version;""")

    def changes(self, act):
        self.until(self.done)
        before = self.seen()
        act()
        self.until(lambda: self.seen() != before)
        self.until(self.done)

    def test_loads(self):
        self.assertIn("Yard", self.browser.title)
        box = self.by("picture").rect
        self.assertEqual(self.facts("size"), [round(box["width"]), round(box["height"])])
        self.assertGreater(self.js("""
            const {canvas, context} = photon_lane.picture;
            return new Set(context.getImageData(0, 0, canvas.width, canvas.height).data).size"""), 100)
        # It fits: nothing is to be scrolled to at this size.
        self.assertLessEqual(self.js("return document.documentElement.scrollHeight"), 800)

    def test_drag_keys_and_wheel(self):
        picture = self.by("picture")
        heading = self.facts("heading")
        self.changes(lambda: ActionChains(self.browser).drag_and_drop_by_offset(picture, 120, 0).perform())
        self.assertNotAlmostEqual(self.facts("heading"), heading, 1)
        eye = self.facts("eye")

        def walk():
            ActionChains(self.browser).key_down("w").pause(0.4).key_up("w").perform()
        self.changes(walk)
        self.assertNotEqual(self.facts("eye"), eye)
        self.assertAlmostEqual(self.facts("eye")[2], eye[2], 2)
        self.until(lambda: self.facts("last"))
        field = self.facts("field_of_view")
        self.changes(lambda: ActionChains(self.browser).scroll_from_origin(
            ScrollOrigin.from_element(picture), 0, -200).perform())
        self.assertLess(self.facts("field_of_view"), field)
        self.changes(lambda: self.by("home").click())
        self.assertAlmostEqual(self.facts("heading"), heading, 6)

    def test_knobs(self):
        limit = self.knob("bounces.limit")
        text = limit.find_element(By.CSS_SELECTOR, "input.form-control")
        self.assertEqual(text.get_attribute("value"), "4")

        def type_in(value):
            text.click()
            text.send_keys(Keys.CONTROL, "a")
            text.send_keys(value, Keys.TAB)
        self.changes(lambda: type_in("0"))
        self.until(lambda: "bounces.limit" in self.by("changed").text)
        type_in("lots")
        wrong = limit.find_element(By.CSS_SELECTOR, ".wrong")
        self.until(lambda: "found 'lots'" in wrong.text)
        self.changes(lambda: self.by("undo").click())
        self.until(lambda: self.by("changed").text == "")
        select = Select(self.knob("light.sun_shadows").find_element(By.TAG_NAME, "select"))
        self.changes(lambda: select.select_by_visible_text("none"))
        back = self.knob("light.sun_shadows").find_element(By.CSS_SELECTOR, ".back")
        self.until(back.is_enabled)
        self.changes(back.click)
        # A slider, by keys alone.
        slider = self.knob("camera.pitch").find_element(By.CSS_SELECTOR, "input[type=range]")
        self.js("arguments[0].closest('details').open = true; arguments[0].focus()", slider)
        self.changes(lambda: slider.send_keys(*[Keys.ARROW_RIGHT] * 30))
        # Knobs without effect are there for who looks for them.
        idle = self.knob("light.soft_samples")
        self.assertFalse(idle.is_displayed())
        self.by("search").send_keys("soft")
        self.assertTrue(idle.is_displayed())
        self.assertFalse(limit.is_displayed())

    def test_text(self):
        self.by("tab-text").click()

        def write(text):
            self.js("document.querySelector('.CodeMirror').CodeMirror.setValue(arguments[0])", text)
            self.js("document.querySelector('.CodeMirror').CodeMirror.focus()")
            ActionChains(self.browser).key_down(Keys.CONTROL).send_keys("s").key_up(Keys.CONTROL).perform()
        before = self.seen()
        write(YARD.replace("radius", "radios"))
        self.until(lambda: self.by("trouble").is_displayed())
        self.assertIn("radius", self.by("trouble").text)
        self.assertEqual(self.js("return document.querySelectorAll('.wrong-line').length"), 1)
        self.assertEqual(self.seen(), before)
        self.changes(lambda: write(YARD.replace("0.5}}}", "0.9}}}")))
        self.until(lambda: not self.by("trouble").is_displayed())
        self.assertEqual((self.path / "yard.yaml").read_text(), YARD)
        # Somebody else's editor.
        self.changes(lambda: (self.path / "yard.yaml").write_text(YARD.replace("0.5}}}", "0.2}}}")))

    def test_lane(self):
        ActionChains(self.browser).click(self.by("picture")).perform()
        self.until(lambda: "m from the eye" in self.by("lane-summary").text)
        self.until(lambda: self.js("return document.getElementById('lane-plan').naturalWidth") == 720)
        self.until(lambda: "material" in self.by("pixel").text)

    def test_price_and_two_settings(self):
        self.by("tab-price").click()

        def known(count):
            rows = self.js("""return [...document.querySelectorAll('#tried tbody tr')].map(
                (row) => row.cells[2].textContent)""")
            return len(rows) == count and "–" not in rows
        self.until(lambda: known(1))
        self.js("photon_lane.sitting.act({set: ['bounces.limit', '0']})")
        self.until(lambda: known(2))
        self.assertGreater(len(self.js("return document.querySelectorAll('#stages tbody tr')")), 1)
        # A is the file's setting: the ball's mirror is there on one side alone.
        before = self.seen()
        self.by("split-on").click()
        self.until(lambda: self.by("other").is_displayed())
        self.assertIn("bounces.limit=0", self.by("name-b").text)
        self.assertIn("inset(", self.by("other").get_attribute("style"))
        self.assertEqual(self.seen(), before)
        self.by("flicker").click()
        self.until(lambda: not self.by("other").is_displayed())
        self.until(lambda: self.by("other").is_displayed())
        self.by("error-picture").click()
        self.until(lambda: "Error" in self.by("name-a").text)
        self.by("ab-off").click()
        self.assertFalse(self.by("other").is_displayed())
        # A point of the chart sets its setting.
        def at_file():
            return self.js("""return [...document.querySelectorAll('#tried .table-active')]
                .map((row) => row.cells[0].textContent)""") == ["as the file has it"]

        def click_point():
            place = self.js("""
                const chart = Chart.getChart('front');
                chart.canvas.scrollIntoView({block: 'center'});
                for (let set = 0; set < 2; ++set) {
                  const {data} = chart.data.datasets[set];
                  const at = data.findIndex(({point}) => point.changed.length === 0);
                  if (at < 0) continue;
                  const {x, y} = chart.getDatasetMeta(set).data[at];
                  return [x - chart.canvas.clientWidth / 2, y - chart.canvas.clientHeight / 2];
                }""")
            ActionChains(self.browser).move_to_element_with_offset(
                self.by("front"), round(place[0]), round(place[1])).click().perform()
            time.sleep(0.5)
        self.assertFalse(at_file())
        # What stands above the chart may grow by a line just then.
        self.until(lambda: click_point() or at_file())

    def test_layers_and_planes(self):
        self.changes(lambda: Select(self.by("layer")).select_by_visible_text("steps"))
        self.assertIn("steps", self.by("legend").text)
        Select(self.by("scenes")).select_by_visible_text("Plane")
        self.until(lambda: self.js("return photon_lane.picture.plane") and self.done())
        self.assertFalse(self.by("fly").is_displayed())
        picture = self.by("picture")
        self.changes(lambda: ActionChains(self.browser).scroll_from_origin(
            ScrollOrigin.from_element(picture), 0, -300).perform())
        self.assertLess(float(self.facts("width")), 3)
        center = self.facts("center")
        self.changes(lambda: ActionChains(self.browser).drag_and_drop_by_offset(picture, 60, 30).perform())
        self.assertLess(float(self.facts("center")[0]), float(center[0]))
        self.assertGreater(float(self.facts("center")[1]), float(center[1]))

    def test_two_pages(self):
        first = self.browser.current_window_handle
        self.browser.switch_to.new_window("tab")
        self.browser.get(self.server.address)
        self.until(self.done)
        self.js("photon_lane.sitting.act({look: [40, 0]})")
        heading = self.facts("heading")
        self.until(lambda: self.facts("heading") != heading)
        self.browser.close()
        self.browser.switch_to.window(first)
        self.assertEqual(self.facts("heading"), heading)

    def test_server_gone_and_back(self):
        self.changes(lambda: self.js("photon_lane.sitting.act({look: [40, 0]}, {set: ['bounces.limit', '1']})"))
        heading = self.facts("heading")
        self.until(lambda: "bounces.limit" in self.by("changed").text)
        self.server.end(signal.SIGKILL)
        self.until(lambda: self.by("gone").is_displayed())
        port = self.server.address.split(":")[2].split("/")[0]
        drawn = self.js("return photon_lane.picture.drawn")
        type(self).server = Server(self.path, "yard.yaml", "plane.yaml", "--token-file", "token",
                                   "--port", port)
        self.until(lambda: not self.by("gone").is_displayed())
        self.until(lambda: self.js("return photon_lane.picture.drawn") > drawn and self.done() and abs(self.facts("heading") - heading) < 0.01)
        self.until(lambda: "bounces.limit" in self.by("changed").text)

    def test_small_and_dark(self):
        try:
            self.browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", {
                "width": 360, "height": 740, "deviceScaleFactor": 1, "mobile": True})
            for scheme in ("dark", "light"):
                self.browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {
                    "features": [{"name": "prefers-color-scheme", "value": scheme},
                                 {"name": "prefers-reduced-motion", "value": "reduce"}]})
                for tab in ("knobs", "price", "lane", "text", "keep"):
                    self.js("document.getElementById(arguments[0]).click()", f"tab-{tab}")
                    self.assertLessEqual(self.js("return document.documentElement.scrollWidth"), 360, tab)
                    self.assertEqual(self.js(FAINT), [], f"{scheme} {tab}")
        finally:
            self.browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", {
                "width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False})

    def test_everything_has_a_name_and_is_reached_by_keys(self):
        self.assertEqual(self.js("""
            return [...document.querySelectorAll('button, input, select, textarea, canvas, img')]
                .filter((one) => one.closest('[aria-hidden=true]') === null)
                .filter((one) => !(one.labels?.length || one.getAttribute('aria-label') ||
                                   one.textContent.trim() || one.alt || one.title))
                .map((one) => one.outerHTML)"""), [])
        self.js("document.activeElement.blur()")
        reached = set()
        for _ in range(25):
            ActionChains(self.browser).send_keys(Keys.TAB).perform()
            reached.add(self.js("return document.activeElement.id"))
        self.assertTrue({"scenes", "picture", "layer", "home", "fly", "speed", "tab-knobs", "search"} <= reached,
                        reached)


# Texts whose color is too near to what is behind them: contrast below 4.5 (WCAG 2.1, 1.4.3).
FAINT = """
const light = (color) => {
  const [r, g, b] = color.match(/[\\d.]+/g).map(Number)
      .map((one) => one / 255).map((one) => one <= 0.04045 ? one / 12.92 : ((one + 0.055) / 1.055) ** 2.4);
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
};
const behind = (one) => {
  for (; one; one = one.parentElement) {
    const color = getComputedStyle(one).backgroundColor;
    const parts = color.match(/[\\d.]+/g).map(Number);
    if (parts.length === 3 || parts[3] === 1) return color;
  }
  return 'rgb(255, 255, 255)';
};
return [...document.querySelectorAll('label, p, h1, h2, button, summary, td, th, pre, output, span')]
    .filter((one) => one.checkVisibility() && !one.disabled && one.closest('#names, .CodeMirror, .idle') === null)
    .filter((one) => [...one.childNodes].some((child) => child.nodeType === 3 && child.data.trim()))
    .filter((one) => {
      const [a, b] = [light(getComputedStyle(one).color), light(behind(one))].sort();
      return (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05) < 4.5;
    })
    .map((one) => `${one.tagName} ${one.id} ${one.textContent.slice(0, 40)} ${getComputedStyle(one).color}`);
"""

if __name__ == "__main__":
    unittest.main(verbosity=2)

"""What the page of photonlane live reaches in headless Chromium: frames a second, and how late they are.

    /usr/bin/python3 bench/live_page.py TOOL SCENE [WIDTHxHEIGHT...]

While a key is held: pictures drawn a second, and of each how long the frame took, how long it took to
send it (both as the server tells), and how long after it was ready it was on the canvas (by the clock both have).
"""

import subprocess
import sys
import time

from selenium import webdriver
from selenium.webdriver.chrome.service import Service

MEASURE = """
const [seconds, done] = arguments;
const {picture, sitting} = photon_lane;
const seen = [];
const before = picture.ondraw;
picture.ondraw = (facts) => {
  before(facts);
  seen.push([facts.ms, facts.send_ms, picture.late, facts.bytes ?? 0, performance.now(), facts.size[0], facts.size[1]]);
};
sitting.act({drive: {turn: 0.3}});
setTimeout(() => {
  sitting.act({drive: {}});
  picture.ondraw = before;
  done(seen);
}, 1000 * seconds);
"""


def middle(values):
    return sorted(values)[len(values) // 2]


def most(values):
    return sorted(values)[int(0.95 * (len(values) - 1))]


def main():
    tool, scene, *sizes = sys.argv[1:]
    server = subprocess.Popen([tool, "live", scene, "--set", "frame.samples=1"], text=True,
                              stdout=subprocess.PIPE)
    address = server.stdout.readline().strip()
    options = webdriver.ChromeOptions()
    for word in ("--headless=new", "--no-sandbox", "--disable-gpu"):
        options.add_argument(word)
    browser = webdriver.Chrome(service=Service("/usr/bin/chromedriver"), options=options)
    try:
        print("size       pictures/s  frame ms  send ms  late ms (median, 95 of 100)")
        for size in sizes or ["640x400", "1280x800"]:
            width, height = map(int, size.split("x"))
            browser.get("about:blank")
            browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", {
                "width": width + 500, "height": height + 300, "deviceScaleFactor": 1,
                "mobile": False})
            browser.get(address)
            while not browser.execute_script("return window.photon_lane?.picture.facts?.last"):
                time.sleep(0.1)
            # Of that size to the pixel, and all of it however long it takes.
            browser.execute_script(
                "photon_lane.picture.size = arguments[0];"
                "photon_lane.sitting.act({size: arguments[0]}, {frame_ms: 200}, {measure: false})",
                [width, height])
            time.sleep(1.5)
            browser.execute_async_script(MEASURE, 1)
            seen = browser.execute_async_script(MEASURE, 4)
            rate = (len(seen) - 1) / (seen[-1][4] - seen[0][4]) * 1000
            frame, send, late = ([one[i] for one in seen] for i in range(3))
            print(f"{seen[-1][5]:.0f}x{seen[-1][6]:<6.0f} {rate:9.1f} {middle(frame):9.1f} "
                  f"{middle(send):8.1f} {middle(late):8.1f} {most(late):8.1f}")
    finally:
        browser.quit()
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()

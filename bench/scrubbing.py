"""What the one who scrubs waits for, in the real browser: median ms from a frame number to its picture on the screen.

A 1080p movie is made from the demo film, brought in and opened. `cached`: frames the browser has shown before.
`server_cache`: frames whose picture the server has kept. `uncached`: frames whose picture nobody has made yet.
`first_open`: from
starting the program on a set-up machine to the first picture. `playback`: frames shown per second over a loop.
"""

import statistics
import subprocess
import sys
import time
import urllib.request
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
from playwright.sync_api import Page, sync_playwright

import record

CHROMIUM = "/usr/bin/chromium"
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]
COUNT = 100

# Set the playhead, and wait until a canvas has drawn exactly that frame.
WAIT_FOR_FRAME = """async (frame) => {
  const field = document.querySelector('input[aria-label=Frame]');
  const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set;
  const canvas = document.querySelector('[data-testid="picture-Shot view"]');
  const start = performance.now();
  set.call(field, String(frame));
  field.dispatchEvent(new Event('input', { bubbles: true }));
  field.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true }));
  while (!canvas.dataset.shown?.includes(`/frames/${frame}.`)) {
    await new Promise((r) => setTimeout(r, 1));
    if (performance.now() - start > 5000) return -1;
  }
  return performance.now() - start;
}"""


def make_movie(path: Path) -> None:
    source = record.ROOT / "demo" / "footage" / "pilot" / "plate.mp4"
    with av.open(str(source)) as reader, av.open(str(path), "w") as writer:
        stream = writer.add_stream("libx264", rate=Fraction(25))
        stream.width, stream.height, stream.pix_fmt = 1920, 1080, "yuv420p"
        stream.options = {"crf": "18", "preset": "veryfast"}
        for k, frame in enumerate(reader.decode(video=0)):
            large = cv2.resize(frame.to_ndarray(format="rgb24"), (1920, 1080), interpolation=cv2.INTER_CUBIC)
            out = av.VideoFrame.from_ndarray(large, format="rgb24")
            out.pts, out.time_base = k, Fraction(1, 25)
            writer.mux(stream.encode(out))
        writer.mux(stream.encode(None))


def serve(library: Path) -> tuple[subprocess.Popen[str], str]:
    code = "from gentle_veil.cli.main import main; main()"
    command = [sys.executable, "-u", "-c", code, "serve", "--port", "0", "--library", str(library)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, cwd=record.ROOT)
    assert process.stdout is not None
    url = process.stdout.readline().split(" at ")[1].strip()
    while True:
        try:
            urllib.request.urlopen(url + "api/jobs", timeout=2).read()
            return process, url
        except OSError:
            time.sleep(0.02)


def wait(page: Page, frames: list[int]) -> float:
    """Median over ``frames``, each given time to settle first."""
    times = []
    for frame in frames:
        page.wait_for_timeout(60)
        times.append(page.evaluate(WAIT_FOR_FRAME, frame))
    assert min(times) >= 0, "a frame did not come"
    return round(statistics.median(times), 1)


def main() -> None:
    rng = np.random.default_rng(1)
    with record.scratch() as folder, sync_playwright() as play:
        library = Path(folder) / "library"
        (library / "inbox").mkdir(parents=True)
        make_movie(library / "inbox" / "ferry.mp4")
        browser = play.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        process, url = serve(library)
        # Analysing would decode every frame beforehand: bring the clip in without it.
        bring_in = (
            "from gentle_veil.wiring import open_library; from gentle_veil.services.bringing_in import bring_in; "
        )
        bring_in += (
            f"from pathlib import Path; bring_in(open_library(Path({str(library)!r})), {{'inbox': 'ferry.mp4'}})"
        )
        subprocess.run([sys.executable, "-c", bring_in], check=True, cwd=record.ROOT)
        page.goto(url)
        page.get_by_label("Frame", exact=True).wait_for()
        page.wait_for_timeout(2500)
        far = [int(k) for k in rng.permutation(np.arange(30, COUNT, 3))]
        uncached = wait(page, far[:12])
        cached = wait(page, [int(v) for v in rng.permutation(far[:12])])
        page.reload()
        page.wait_for_timeout(2500)
        page.request.post(url + "api/shots/1/jobs", data={"kind": "analyse"})
        for _ in range(400):
            if page.request.get(url + "api/jobs").json()["jobs"][0]["state"] == "done":
                break
            page.wait_for_timeout(300)
        server_cache = wait(page, far[12:])
        playback = played(page)
        process.kill()
        process.wait()
        start = time.perf_counter()
        process, url = serve(library)
        page.goto(url)
        while not (page.get_by_test_id("picture-Shot view").get_attribute("data-shown") or ""):
            time.sleep(0.01)
        first_open = time.perf_counter() - start
        process.kill()
        process.wait()
        browser.close()
    record.write(
        "scrubbing",
        {
            "size": "1920x1080",
            "cached_ms": cached,
            "server_cache_ms": server_cache,
            "uncached_ms": uncached,
            "playback_frames_per_second": playback,
            "first_open_s": round(first_open, 2),
        },
    )


def played(page: Page) -> float:
    """Frames shown per second over three seconds, after one whole loop has been shown."""
    head = page.get_by_label("Playhead")
    page.get_by_role("button", name="Play", exact=True).click()
    page.wait_for_timeout(9000)
    shown = page.evaluate(
        """() => new Promise((resolve) => {
          const head = document.querySelector('[aria-label=Playhead]');
          let n = 0;
          const watch = new MutationObserver(() => n++);
          watch.observe(head, { attributes: true, attributeFilter: ['aria-valuenow'] });
          setTimeout(() => { watch.disconnect(); resolve(n); }, 3000);
        })"""
    )
    page.get_by_role("button", name="Pause").click()
    head.wait_for()
    return round(shown / 3, 1)


if __name__ == "__main__":
    main()

"""Playing a filmed plate in headless Chromium on the Match page, overlay and all; the reference is
how often the page could draw.

120 frames of 1280 × 720, real time, after a first pass. Wanted: 24 pictures a second.
"""

import tempfile
from fractions import Fraction
from pathlib import Path

from playwright.sync_api import sync_playwright

from aperture.plates.film import Film, make_small
from bench.server import Server
from tests.filmed import write_movie

FRAMES, RATE = 120, Fraction(24)
SECONDS = 10
CHROMIUM = "/usr/bin/chromium"
DRAWS = """seconds => new Promise(done => {
  let count = 0;
  const began = performance.now();
  const tick = now => {
    count += 1;
    if (now - began < seconds * 1000) requestAnimationFrame(tick);
    else done(count / seconds);
  };
  requestAnimationFrame(tick);
})"""


def report():
    """Print how many of the frames that were due were shown."""
    with (
        tempfile.TemporaryDirectory() as folder,
        Server(folder) as server,
        sync_playwright() as playwright,
    ):
        movie = write_movie(f"{folder}/walk.mp4", count=FRAMES, size=(1280, 720), rate=RATE)
        browser = playwright.chromium.launch(
            executable_path=CHROMIUM, args=["--no-sandbox", "--disable-background-networking"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        shot = f"{server.address}/shows/the-lantern-tide/LT010"
        page.goto(f"{shot}/plate")
        page.set_input_files("#id_picture", movie)
        page.wait_for_selector("#strip")
        film = next(
            path.parent
            for path in Path(folder).glob("films/*/film.json")
            if Film.read(path.parent).name == "walk.mp4"
        )
        make_small(film, Film.read(film).numbers)
        page.goto(f"{shot}/match")
        page.wait_for_load_state("networkidle")
        alone = page.evaluate(DRAWS, 3)
        for seconds in (FRAMES / float(RATE) + 1, SECONDS):  # the first pass fetches
            page.keyboard.press("Home")
            page.keyboard.press("Space")
            page.wait_for_timeout(seconds * 1000)
            page.keyboard.press("Space")
        dropped = int(page.inner_text("#strip-says").split(", ")[1].split()[0])
        browser.close()
    due = SECONDS * float(RATE)
    shown = (due - dropped) / SECONDS
    print(
        f"\nPlaying {FRAMES} frames of 1280 × 720 on the Match page for {SECONDS} s: {shown:.1f}"
        f" pictures a second shown (wanted {float(RATE):.0f}), {dropped} of {due:.0f} dropped; an"
        f" idle page draws {alone:.0f} times a second, {alone / shown:.1f} × as often"
    )


if __name__ == "__main__":
    report()

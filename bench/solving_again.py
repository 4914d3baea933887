"""Solving a path again in the running application: from the click to the new figures, in headless
Chromium, with a worker beside the server; the reference is the solver's own call.

100 frames × 500 tracks, four of them surveyed; each time another track has been switched off.
Wanted: 1 s.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
from fractions import Fraction
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright

from aperture.path.solve import solve
from bench.server import Server
from tests.filmed import write_movie
from tests.moving import SIZE, document, scene

FRAMES, TRACKS, ROUNDS, WANTED = 100, 500, 8, 1.0
CHROMIUM = "/usr/bin/chromium"
SOLVE = "[data-solve]"
# Shown is the new path once the page says no more that it is solved from earlier evidence.
WATCH = """() => {
  const sheet = document.getElementById("sheet");
  const old = () =>
    document.getElementById("job") || sheet.textContent.includes("Solved from earlier evidence");
  let began = null;
  const once = {capture: true, once: true};
  document.addEventListener("click", () => (began = performance.now()), once);
  window.took = new Promise(done => {
    new MutationObserver(() => {
      if (began !== null && !old()) done(performance.now() - began);
    }).observe(sheet, {childList: true, subtree: true});
  });
}"""
SEND = """async ([url, body, name]) => {
  const form = new FormData();
  form.append("base", document.getElementById("revision").textContent);
  if (name) form.append(name, new File([body], "walk.json"));
  const headers = {"X-CSRFToken": document.querySelector("meta[name=csrf]").content, "X-Form": "1"};
  return (await fetch(url, {method: "POST", body: form, headers})).status;
}"""


def report(rounds: int = ROUNDS) -> None:
    """Print how long it takes in the page, and by itself."""
    data = document(scene("orbit", FRAMES, TRACKS), sliding=0.03, known=4)
    with (
        tempfile.TemporaryDirectory() as folder,
        Server(folder, {"APERTURE_LOCAL": "1"}) as server,
        sync_playwright() as playwright,
    ):
        worker = subprocess.Popen(
            [sys.executable, "manage.py", "db_worker", "--interval", "0.1", "--no-startup-delay"],
            env=server.environment,
            stderr=subprocess.DEVNULL,
        )
        try:
            movie = write_movie(f"{folder}/walk.mp4", FRAMES, size=SIZE, rate=Fraction(24))
            browser = playwright.chromium.launch(
                executable_path=CHROMIUM, args=["--no-sandbox", "--disable-background-networking"]
            )
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            shot = f"{server.address}/shows/the-lantern-tide/LT010"
            in_page = _in_page(page, shot, movie, data, rounds)
            browser.close()
        finally:
            worker.terminate()
            worker.wait()
    alone = _by_itself(data, rounds)
    print(
        f"\nSolving {FRAMES} frames × {TRACKS} tracks again in the application, from the click to"
        f" the new figures: median {np.median(in_page):.2f} s of {rounds}, the slowest"
        f" {max(in_page):.2f} s (wanted: {WANTED:g}); the solver's own call"
        f" {np.median(alone):.2f} s, {np.median(in_page) / np.median(alone):.1f} × as long as that"
    )


def _in_page(page: Page, shot: str, movie: Path | str, data: dict, rounds: int) -> list[float]:
    """Seconds from the click to the new figures; the first path, with which the worker gets ready,
    isn't counted."""
    page.goto(f"{shot}/plate")
    page.set_input_files("#id_picture", movie)
    page.wait_for_selector("#strip")
    page.goto(f"{shot}/match")
    frame = page.input_value("#strip-frame")
    shifted = data | {"frames": data["frames"] | {"first": int(frame)}}
    by = int(frame) - data["frames"]["first"]
    shifted["frames"]["last"] = data["frames"]["last"] + by
    shifted["tracks"] = [
        track | {"observations": [[row[0] + by, *row[1:]] for row in track["observations"]]}
        for track in data["tracks"]
    ]
    status = page.evaluate(SEND, [f"{shot}/match/load", json.dumps(shifted), "document"])
    assert status == 200, status
    page.goto(f"{shot}/match")
    page.click("#leaf-tracks")
    page.click(SOLVE)
    page.wait_for_selector("text=Solve the path again", timeout=0)
    took = []
    for number in range(rounds + 1):
        page.evaluate(
            """async ([url, id]) => {
              const {post} = await import("/static/ui/app.js");
              await post(url, {
                base: +document.getElementById("revision").textContent, verb: "off", ids: [id],
              });
            }""",
            [f"{shot}/match/tracks/change", f"t{20 + 7 * number}"],
        )
        page.goto(f"{shot}/match")
        page.wait_for_selector("text=Solved from earlier evidence")
        page.wait_for_load_state("load")
        page.wait_for_timeout(1000)  # until the page has settled
        page.evaluate(WATCH)
        page.click(SOLVE)
        took.append(page.evaluate("window.took") / 1000)
    return took[1:]


def _by_itself(data: dict, rounds: int) -> list[float]:
    fit, took = solve(data).document, []
    for number in range(rounds):
        fewer = [track for track in data["tracks"] if track["id"] != f"t{20 + 7 * number}"]
        began = time.perf_counter()
        solve(data | {"tracks": fewer}, warm=fit)
        took.append(time.perf_counter() - began)
    return took


if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.config.settings")
    report(int(sys.argv[1]) if len(sys.argv) > 1 else ROUNDS)

"""How long renders take, and how many rays a second, against embree called bare on the same primary
rays in the same run."""

import os
import time

import numpy as np

from aperture.render.passes import Wanted, rays, render
from aperture.render.tracer import Look, Scene
from demo.plates import PLATES, camera_for
from demo.show import STAND_INS


def scene():
    """The demo's camera and its stand-ins, a floor under them that fills most of the picture."""
    from web.stage.stand_ins import extra, stand_in_from

    looks = [
        Look(item["name"], extra(item, "material"), part_of_plate=extra(item, "part_of_plate"))
        for item in STAND_INS
    ]
    return camera_for(next(iter(PLATES.values()))), [
        (stand_in_from(item), look) for item, look in zip(STAND_INS, looks)
    ]


def timed(work, rounds=3) -> float:
    """Median seconds."""
    taken = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return float(np.median(taken))


def report() -> None:
    """Print preview, full render and rays a second."""
    from dataclasses import replace

    camera, items = scene()
    small = replace(camera, grid=camera.grid.resize(960, 540))
    preview = timed(lambda: render(small, items, Wanted(samples=1)))
    whole = timed(lambda: render(camera, items, Wanted(("depth", "shadow"), samples=2)))
    rows, columns = (300, 1080), (0, 1920)
    directions = rays(camera, rows, columns, 2).reshape(-1, 3)
    traced = Scene(camera, items)
    traced.ready()
    starts, single = np.zeros((len(directions), 3), np.float32), directions.astype(np.float32)
    bare = timed(lambda: traced._all[0].run(starts, single, output=1))
    blocks = np.array_split(directions, max(1, len(directions) // 120_000))
    ours = timed(lambda: [traced.hit(block) for block in blocks])
    print(f"\nRenders of the demo's set, {os.cpu_count()} cores")
    print(
        f"  preview 960 × 540: {preview:.2f} s (wanted 0.3); 1920 × 1080 with 4 samples, shadows"
        f" and depth: {whole:.2f} s (wanted 6)"
    )
    print(
        f"  rays: {len(directions) / ours / 1e6:.1f} million a second on one core,"
        f" {bare / ours:.2f} of embreex called bare on the same (wanted 0.5)"
    )


if __name__ == "__main__":
    report()

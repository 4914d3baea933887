"""How long the Set's and the Line-up's own work takes on the demo's scene: the plate on a stand-in,
a render brought back, the plate's edges.

References, in the same run: embree asked once for every corner of the worn surface; OpenCV reading
the same picture and comparing it once.
"""

import tempfile
from pathlib import Path

import numpy as np

from aperture.render import corrections, offsets, plate_edges, returned, worn
from aperture.render.passes import Wanted, coverage, render
from aperture.render.tracer import Scene
from bench.renders import scene, timed
from demo.plates import FOLDER, PLATES


def report() -> None:
    """Print seconds, and each as a ratio to its reference."""
    import cv2

    camera, items = scene()
    bodies = [item for item, _ in items]
    floor = next(index for index, item in enumerate(bodies) if item.kind == "plane")
    made = worn.wear(camera, bodies, floor)
    took, bare = (
        timed(lambda: worn.wear(camera, bodies, floor)),
        timed(lambda: Scene(camera, items).hit(made.points - camera.position)),
    )
    print(
        f"\nThe plate on the floor: {len(made.triangles):,} pieces in {took:.2f} s,"
        f" {took / bare:.0f} x embree asked once for each corner"
    )
    expected = coverage(camera, items)
    took, whole = (
        timed(lambda: coverage(camera, items)),
        timed(lambda: render(camera, items, Wanted(samples=4)), 1),
    )
    print(
        f"The alpha to compare with: {took:.2f} s, {took / whole:.2f} of rendering it with its"
        " light"
    )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "render.png"
        picture = np.clip(
            np.concatenate(
                [np.repeat(expected[..., None] * 0.6, 3, axis=2), expected[..., None]], axis=2
            )
            * 255
            + 0.5,
            0,
            255,
        ).astype(np.uint8)
        cv2.imwrite(str(path), np.ascontiguousarray(picture[::-1]))
        known, targets = (
            corrections.corrections_of(None, camera),
            corrections.targets_of(None, *expected.shape[::-1]),
        )

        def back():
            found, _, _ = returned.put_right(returned.read(path), expected, known, targets)
            return offsets.measure(found.rgba[..., 3], expected)

        took = timed(back)
        bare = timed(
            lambda: np.abs(
                cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[::-1, :, 3] / 255.0 - expected
            ).mean()
        )
        print(
            f"A render of {expected.shape[1]} × {expected.shape[0]} read, turned back and measured:"
            f" {took:.2f} s, {took / bare:.0f} x reading and comparing it once"
        )
    pixels = cv2.imread(str(FOLDER / f"{next(iter(PLATES))}.jpg"))[..., ::-1]
    took = timed(
        lambda: plate_edges.measure(
            pixels, camera, bodies, [index for index in range(len(bodies)) if index != floor]
        )
    )
    print(f"The plate's edges along {len(bodies) - 1} stand-ins: {took:.2f} s")


if __name__ == "__main__":
    report()

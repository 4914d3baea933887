"""The demo's plates: photographed once by `python -m demo.plates`, committed as JPEG with the true camera beside each."""

import json
import sys
from pathlib import Path

import numpy as np

from aperture.camera import Camera
from aperture.gates.grid import Grid
from aperture.lens.lens import Lens
from demo.photograph import photograph

FOLDER = Path(__file__).parent / "plates"
SIZE = (1920, 1080)
GATE_MM = (36.0, 20.25)
# Everything here is made up. Positions in metres from the foot of the doorway's left jamb; angles in degrees.
PLATES = {
    "LT010_boathouse_morning": {"focal_mm": 27.0, "position": (4.35, 1.552, 8.10), "pan": 28.0, "tilt": -3.5, "roll": 0.6, "seed": 10,
                                "stop": 4.0, "shutter": (1, 60), "iso": 400, "date": "2026:03:14 07:42:10"},
    "LT020_toward_the_slipway": {"focal_mm": 35.0, "position": (-1.60, 1.348, 7.20), "pan": -32.0, "tilt": 2.5, "roll": -0.8, "seed": 20,
                                 "stop": 5.6, "shutter": (1, 50), "iso": 640, "date": "2026:03:14 07:55:31"},
}


def camera_for(plate: dict, size=SIZE) -> Camera:
    """The true camera of one of PLATES, at its own or another size of the same aspect."""
    grid = Grid.from_gate(*size, *GATE_MM)
    return Camera.at(grid, Lens(plate["focal_mm"]), plate["position"], *np.radians([plate["pan"], plate["tilt"], plate["roll"]]))


def truth(name: str) -> Camera:
    """The camera that took a committed plate, read from the file beside it."""
    data = json.loads((FOLDER / f"{name}.json").read_text())
    return Camera(Grid.from_gate(data["width"], data["height"], *data["gate_mm"]), Lens(data["focal_mm"]), np.array(data["world_from_camera"]))


def write(name: str, plate: dict) -> None:
    """Photograph one plate and write its JPEG, with EXIF of an invented camera, and its truth."""
    from PIL import Image

    camera = camera_for(plate)
    pixels = photograph(camera, plate["seed"], exposure=2.1, progress=lambda done: print(f"\r{name} {done:4.0%}", end="", file=sys.stderr))
    exif = Image.Exif()
    exif[0x010F], exif[0x0110], exif[0x0112] = "Saltmarsh", "Saltmarsh One", 1
    details = exif.get_ifd(0x8769)
    details.update({0x829D: plate["stop"], 0x829A: plate["shutter"][0] / plate["shutter"][1], 0x8827: plate["iso"], 0x9003: plate["date"],
                    0x920A: plate["focal_mm"], 0xA405: round(plate["focal_mm"]), 0xA434: f"Kittiwake {plate['focal_mm']:g} mm f/2.8"})
    FOLDER.mkdir(exist_ok=True)
    Image.fromarray(pixels).save(FOLDER / f"{name}.jpg", quality=92, subsampling=0, exif=exif)
    (FOLDER / f"{name}.json").write_text(json.dumps({
        "width": SIZE[0], "height": SIZE[1], "gate_mm": GATE_MM, "focal_mm": plate["focal_mm"],
        "world_from_camera": camera.world_from_camera.tolist()}, indent=1) + "\n")


if __name__ == "__main__":
    for wanted in sys.argv[1:] or PLATES:
        write(wanted, PLATES[wanted])

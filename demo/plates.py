"""The demo's plates: photographed once by `python -m demo.plates`, committed as JPEG with the true
camera beside each."""

import json
import math
import sys
from pathlib import Path

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.lens.projections import named
from demo.photograph import photograph

FOLDER = Path(__file__).parent / "plates"
SIZE = (1920, 1080)
GATE_MM = (36.0, 20.25)
# Everything here is made up. Positions in metres from the place's origin; angles in degrees.
# `crop`: left, top, width, height px.
PLATES = {
    "LT010_boathouse_morning": {
        "place": "boathouse",
        "focal_mm": 27.0,
        "position": (4.35, 1.552, 8.10),
        "pan": 28.0,
        "tilt": -3.5,
        "roll": 0.6,
        "seed": 10,
        "stop": 4.0,
        "shutter": (1, 60),
        "iso": 400,
        "date": "2026:03:14 07:42:10",
    },
    "LT020_toward_the_slipway": {
        "place": "boathouse",
        "focal_mm": 35.0,
        "position": (-1.60, 1.348, 7.20),
        "pan": -32.0,
        "tilt": 2.5,
        "roll": -0.8,
        "seed": 20,
        "stop": 5.6,
        "shutter": (1, 50),
        "iso": 640,
        "date": "2026:03:14 07:55:31",
    },
    "LT030_boathouse_wide": {
        "place": "boathouse",
        "focal_mm": 18.0,
        "position": (-1.55, 1.46, 6.90),
        "pan": -24.0,
        "tilt": -2.0,
        "roll": 0.4,
        "seed": 30,
        "stop": 4.0,
        "shutter": (1, 50),
        "iso": 800,
        "date": "2026:03:14 08:10:02",
        "lens": "Slipway 18–40",
        "coefficients": (-0.0712, 0.0104, 0.0, 0.0, 0.0),
    },
    "LT040_net_loft": {
        "place": "loft",
        "focal_mm": 24.0,
        "position": (1.95, 1.42, 7.60),
        "pan": 17.0,
        "tilt": -4.0,
        "roll": -0.5,
        "seed": 40,
        "stop": 4.0,
        "shutter": (1, 50),
        "iso": 800,
        "date": "2026:03:14 09:31:44",
        "lens": "Slipway 18–40",
        "exposure": 2.6,
    },
    "LT050_lamp_room": {
        "place": "tower",
        "focal_mm": 24.0,
        "position": (-1.45, 1.58, 4.75),
        "pan": -21.0,
        "tilt": -3.0,
        "roll": 0.3,
        "seed": 50,
        "stop": 5.6,
        "shutter": (1, 50),
        "iso": 640,
        "date": "2026:03:14 11:02:19",
        "lens": "Slipway 18–40",
        "exposure": 2.4,
        "crop": (88, 160, 1440, 900),
    },
    "LT060_boathouse_surveyed": {
        "place": "boathouse",
        "focal_mm": 35.0,
        "position": (4.70, 1.71, 7.30),
        "pan": 41.0,
        "tilt": -7.0,
        "roll": 0.2,
        "seed": 60,
        "stop": 4.0,
        "shutter": (1, 60),
        "iso": 500,
        "date": "2026:03:14 12:15:00",
    },
}
# Panoramas of all around, from two pictures of a lens that sees half of it each; they have no focal
# length.
AROUND = {
    "LT090_lamp_room_around": {
        "place": "tower",
        "size": (2048, 1024),
        "position": (0.62, 1.571, 2.55),
        "pan": 14.0,
        "tilt": 2.2,
        "roll": -1.4,
        "seed": 90,
        "stop": 5.6,
        "shutter": (1, 30),
        "iso": 800,
        "date": "2026:03:14 11:20:40",
        "lens": "Kittiwake Round",
        "exposure": 2.4,
    },
}


def place_of(plate: dict):
    """The place that a plate shows."""
    from demo import boathouse, places

    return {"boathouse": boathouse.build, "loft": places.loft, "tower": places.tower}[
        plate["place"]
    ]()


def camera_for(plate: dict, size=SIZE) -> Camera:
    """The true camera of one of PLATES, at its own or another size of the same aspect; or of one of
    AROUND."""
    angles = np.radians([plate["pan"], plate["tilt"], plate["roll"]])
    if "size" in plate:
        grid = Grid.from_gate(*plate["size"], math.tau, math.pi)
        lens = Lens(1.0, projection=named("equirectangular"))
        return Camera.at(grid, lens, plate["position"], *angles)
    grid = Grid.from_gate(*size, *GATE_MM)
    lens = Lens(plate["focal_mm"], coefficients=plate.get("coefficients", (0.0,) * 5))
    if "crop" in plate:
        grid = grid.window(*(round(value * size[0] / SIZE[0]) for value in plate["crop"]))
    return Camera.at(grid, lens, plate["position"], *angles)


def truth(name: str) -> Camera:
    """The camera that took a committed plate, read from the file beside it."""
    data = json.loads((FOLDER / f"{name}.json").read_text())
    grid = Grid(data["width"], data["height"], tuple(map(tuple, data["mm_from_px"])))
    projection = named(data.get("projection", "rectilinear"))
    lens = Lens(data["focal_mm"], 1.0, projection, coefficients=tuple(data["coefficients"]))
    return Camera(grid, lens, np.array(data["world_from_camera"]))


def write(name: str, plate: dict) -> None:
    """Photograph one plate and write its JPEG, with EXIF of an invented camera, and its truth."""
    from PIL import Image

    camera = camera_for(plate)
    pixels = photograph(
        camera,
        place_of(plate),
        plate["seed"],
        exposure=plate.get("exposure", 2.1),
        progress=lambda done: print(f"\r{name} {done:4.0%}", end="", file=sys.stderr),
    )
    exif = Image.Exif()
    exif[0x010F], exif[0x0110], exif[0x0112] = "Saltmarsh", "Saltmarsh One", 1
    details = exif.get_ifd(0x8769)
    details.update(
        {
            0x829D: plate["stop"],
            0x829A: plate["shutter"][0] / plate["shutter"][1],
            0x8827: plate["iso"],
            0x9003: plate["date"],
            0xA434: plate.get("lens") or f"Kittiwake {plate['focal_mm']:g} mm f/2.8",
        }
    )
    if "focal_mm" in plate:
        details.update({0x920A: plate["focal_mm"], 0xA405: round(plate["focal_mm"])})
    FOLDER.mkdir(exist_ok=True)
    Image.fromarray(pixels).save(FOLDER / f"{name}.jpg", quality=92, subsampling=0, exif=exif)
    write_truth(name, camera)


def write_truth(name: str, camera: Camera) -> None:
    """The true camera, beside its plate."""
    told = {
        "width": camera.grid.width,
        "height": camera.grid.height,
        "mm_from_px": camera.grid.mm_from_px,
        "focal_mm": camera.lens.focal_mm,
        "coefficients": camera.lens.coefficients,
        "world_from_camera": camera.world_from_camera.tolist(),
    }
    if camera.lens.projection.wraps:
        told["projection"] = camera.lens.projection.name
    (FOLDER / f"{name}.json").write_text(json.dumps(told, indent=1) + "\n")


if __name__ == "__main__":
    every = PLATES | AROUND
    for wanted in sys.argv[1:] or every:
        write(wanted, every[wanted])

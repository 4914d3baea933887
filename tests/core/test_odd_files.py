"""Files of every kind, altered anywhere: each reader answers with what it read or with a sentence,
behind its fence.

That a reader broke down or took too long is no good answer to a small file.
"""

import io
import json
import tempfile
from fractions import Fraction
from functools import cache
from pathlib import Path
from unittest import TestCase

import av
import cv2
import numpy as np
import OpenEXR
import tifffile
import trimesh
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.fence import Fence
from aperture.formats import (
    alembic,
    catalogue,
    collada,
    gltf,
    meshes,
    moves_in,
    open_track,
    recipe,
    survey,
    usd,
)
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match import document
from aperture.moves.source import Settings
from aperture.plates.film import film_of_movie, make_small
from aperture.plates.reading import read_picture
from aperture.render import returned
from tests import examples
from tests.filmed import write_movie

PICTURE = np.arange(16 * 12 * 3, dtype=np.uint8).reshape(12, 16, 3)
CRATE = trimesh.creation.box()
CATALOGUE = {
    "format": catalogue.FORMAT,
    "version": 1,
    "bodies": [],
    "lenses": [{"name": "Kittiwake", "maker": "Saltmarsh", "focal_mm": [27, 27]}],
}
TABLE = b"name,x,y,z,pm\nDoor,1 m,2,3,4 mm\nStep,0,0.5,1,\n"


def read_bytes(reader, data, ending):
    """What a reader of picture files says of these bytes."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"odd{ending}"
        path.write_bytes(data)
        reader(path)


def read_plate(data, ending):
    read_bytes(read_picture, data, ending)


def read_render(data, ending):
    read_bytes(returned.read, data, ending)


def read_mesh(data, ending):
    meshes.read(data, ending.lstrip("."))


def read_survey(data, ending):
    survey.read(data, f"odd{ending}", "m", "Y")


def read_catalogue(data, ending):
    catalogue.read(data, f"odd{ending}")


def read_movie(data, ending):
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / f"odd{ending}").write_bytes(data)
        film = film_of_movie(folder / f"odd{ending}", f"odd{ending}", f"odd{ending}")
        film.write(folder)
        make_small(folder, film.numbers[:20])


def read_move(data, ending):
    read_bytes(lambda path: moves_in.read(path, Settings(), Fraction(24)), data, ending)


def moves(folder):
    """(reader, bytes, ending) of a short move in every format."""
    grid = Grid.from_gate(64, 36, 36, 20.25)
    over = {n: Camera.at(grid, Lens(30 + n), (0.1 * n, 1.6, 4), 0.1 * n) for n in range(1, 5)}
    for ending in ("usda", "usdc", "usdz"):
        usd.write(folder / f"m.{ending}", over[1], {}, path_of_camera=over)
    for ending in ("gltf", "glb"):
        gltf.write(folder / f"m.{ending}", over[1], {}, path_of_camera=over)
    collada.write(folder / "m.dae", over[1], {}, path_of_camera=over)
    alembic.write(folder / "m.abc", usd.Shown(over[1]), {}, "m", over, Fraction(24))
    (folder / "m.txt").write_text(recipe.write(over, recipe.Recipe(), Fraction(24)))
    (folder / "m.json").write_text(open_track.write(over, "m", Fraction(24)))
    return [(read_move, path.read_bytes(), path.suffix) for path in sorted(folder.glob("m.*"))]


def read_match(data, ending):
    document.from_bytes(data)


@cache
def samples():
    """(reader, bytes, ending) of a sound small file of each kind."""

    def encoded(ending, pixels=PICTURE):
        return cv2.imencode(ending, pixels)[1].tobytes()

    tiff = io.BytesIO()
    tifffile.imwrite(tiff, PICTURE.astype(np.float32) / 255)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.exr"
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        channels = {name: PICTURE[..., i].astype(np.float16) for i, name in enumerate("RGB")}
        OpenEXR.File(header, channels).write(str(path))
        exr = path.read_bytes()
        dpx = Path(folder) / "a.dpx"
        with av.open(str(dpx), "w", format="image2") as file:
            stream = file.add_stream("dpx", rate=24)
            stream.width, stream.height, stream.pix_fmt = *PICTURE.shape[1::-1], "gbrp10be"
            file.mux(stream.encode(av.VideoFrame.from_ndarray(PICTURE, format="rgb24")))
            file.mux(stream.encode(None))
        dpx = dpx.read_bytes()
        movies = [
            (
                read_movie,
                write_movie(Path(folder) / f"a{ending}", count=6, **how).read_bytes(),
                ending,
            )
            for ending, how in (
                (".mp4", {"options": {"g": "3", "bf": "1"}}),
                (".avi", {"codec": "mjpeg", "pixels": "yuvj420p"}),
                (".mkv", {"codec": "ffv1", "pixels": "yuv444p"}),
            )
        ]
        filmed = moves(Path(folder))
    marks = [{"id": "e1", "kind": "edge", "axis": "up", "points": [[1, 2], [3, 400]]}]
    match = {
        "format": document.FORMAT,
        "version": 1,
        "image": {"width": 640, "height": 480},
        "marks": marks,
    }
    text = {
        kind: trimesh.exchange.export.export_mesh(CRATE, None, kind) for kind in ("obj", "gltf")
    }
    binary = {kind: CRATE.export(file_type=kind) for kind in ("ply", "stl", "glb")}
    out = [
        (read_plate, encoded(".jpg"), ".jpg"),
        (read_plate, encoded(".png"), ".png"),
        (read_plate, encoded(".png", PICTURE.astype(np.uint16) * 257), ".png"),
        (read_plate, tiff.getvalue(), ".tif"),
        (read_plate, exr, ".exr"),
        (read_plate, dpx, ".dpx"),
        (read_render, encoded(".png"), ".png"),
        (read_render, tiff.getvalue(), ".tif"),
        (read_render, exr, ".exr"),
        (read_mesh, text["obj"].encode(), ".obj"),
        *((read_mesh, data, f".{kind}") for kind, data in binary.items()),
        (read_survey, TABLE, ".csv"),
        (read_survey, binary["ply"], ".ply"),
        (read_survey, text["obj"].encode(), ".obj"),
        (read_catalogue, json.dumps(CATALOGUE).encode(), ".json"),
        (read_match, json.dumps(match).encode(), ".json"),
        *movies,
        *filmed,
    ]
    return out


@st.composite
def altered(draw):
    """A sound file with some bytes changed, cut out, doubled or put in."""
    reader, data, ending = draw(st.sampled_from(samples()))
    data = bytearray(data)
    for _ in range(draw(st.integers(0, 4))):
        at = draw(st.integers(0, max(len(data) - 1, 0)))
        length = draw(st.sampled_from([1, 1, 2, 4, 8, 64]))
        match draw(st.sampled_from(["change", "large", "cut", "double", "end"])):
            case "change":
                data[at : at + 1] = draw(st.binary(min_size=1, max_size=4))
            case "large":
                data[at : at + length] = b"\xff" * length
            case "cut":
                del data[at : at + length]
            case "double":
                data[at:at] = data[at : at + length]
            case "end":
                del data[at:]
    return reader, bytes(data), ending


class OddFiles(TestCase):
    def test_sound_ones_are_read(self):
        with Fence() as fence:
            for reader, data, ending in samples():
                with self.subTest(reader.__name__, ending=ending):
                    fence.run(reader, data, ending)

    def test_altered_ones_get_a_sentence(self):
        said = []

        # Without shrinking: each further try would cost a process.
        @settings(examples(400), phases=[Phase.explicit, Phase.reuse, Phase.generate])
        @given(altered())
        def read(file):
            reader, data, ending = file
            try:
                with Fence() as fence:
                    fence.run(reader, data, ending)
            except Problem as problem:
                said.append(problem.sentence)
                # A damaged Alembic archive takes its library's process down: that is what the fence
                # is for.
                worst = ("took longer",) if ending == ".abc" else ("broke down", "took longer")
                for beyond in worst:
                    self.assertNotIn(beyond, problem.sentence, (reader.__name__, ending, data))

        read()
        self.assertGreater(len(said), 40)

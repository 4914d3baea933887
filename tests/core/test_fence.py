"""Files that ask for more than they hold are refused by what they declare, or stopped behind the
fence."""

import fcntl
import json
import os
import struct
import subprocess
import sys
import tempfile
import threading
import zlib
from pathlib import Path
from unittest import TestCase, mock

import numpy as np
import OpenEXR

from aperture.errors import Problem
from aperture.fence import LARGEST_REUSED, MEMORY_BYTES, ON_MACHINE, Fence, run_fenced
from aperture.formats import meshes, survey
from aperture.plates.reading import MOST_PIXELS, read_picture
from aperture.render import returned
from aperture.units import parse_length


def hold(count):
    return len(np.ones(count // 8 + 1))


def forever():
    threading.Event().wait()


def png(width, height, rows=1):
    """A PNG that says it has `width` × `height` grey pixels, and holds some rows of them."""

    def chunk(kind, data):
        body = kind + data
        return struct.pack(">I", len(data)) + body + struct.pack(">I", zlib.crc32(body))

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    data = zlib.compress(b"\0" * (width + 1) * rows)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", data) + chunk(b"IEND", b"")


def gltf(count):
    """A glTF of one triangle mesh whose positions have no bytes behind them, only a count."""
    accessor = {"componentType": 5126, "count": count, "type": "VEC3"}
    return json.dumps(
        {
            "asset": {"version": "2.0"},
            "scene": 0,
            "scenes": [{"nodes": [0]}],
            "nodes": [{"mesh": 0}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
            "accessors": [accessor | {"min": [0, 0, 0], "max": [1, 1, 1]}],
        }
    ).encode()


class Fenced(TestCase):
    def test_what_is_raised_and_returned_comes_through(self):
        with Fence() as fence:
            self.assertEqual(fence.run(parse_length, "3 m"), 3.0)
            with self.assertRaisesRegex(Problem, "can't be read from “3 q”"):
                fence.run(parse_length, "3 q")
            with self.assertRaises(FileNotFoundError):
                fence.run(os.stat, "/nowhere/at/all")
            self.assertEqual(fence.run(parse_length, "2 m"), 2.0)

    def test_one_process_serves_several_calls(self):
        """Also for a caller that is large itself; one that has become large isn't used again."""
        mine = np.ones(LARGEST_REUSED // 8 + 1)  # ours, which the child's count must not begin with
        ids = [run_fenced(os.getpid) for _ in range(3)]
        self.assertEqual(len(set(ids)), 1, mine.nbytes)
        run_fenced(hold, LARGEST_REUSED)
        self.assertNotEqual(run_fenced(os.getpid), ids[0])

    def test_the_limits(self):
        with Fence() as fence:
            with self.assertRaisesRegex(Problem, "more than 2 GB of memory"):
                fence.run(np.ones, MEMORY_BYTES // 8 + 1)
            with self.assertRaisesRegex(Problem, "broke down"):
                fence.run(os.abort)
            self.assertEqual(fence.run(parse_length, "1 m"), 1.0)
        with Fence(seconds=1) as fence, self.assertRaisesRegex(Problem, "longer than 1 seconds"):
            fence.run(forever)

    def test_a_machine_has_four_places_whoever_takes_them(self):
        """One that is killed gives its place back."""
        with tempfile.TemporaryDirectory() as folder, mock.patch("tempfile.tempdir", folder):
            hold = "from aperture.fence import Fence\nwith Fence():\n print(flush=True); input()"
            others = [
                subprocess.Popen(
                    [sys.executable, "-c", hold],
                    env=os.environ | {"TMPDIR": folder},
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                )
                for _ in range(ON_MACHINE)
            ]
            for other in others:
                other.stdout.readline()
            taken = sorted(Path(folder).glob("aperture-readers-*/*"))
            self.assertEqual(len(taken), ON_MACHINE)
            for path in taken:
                with path.open("ab") as place, self.assertRaises(BlockingIOError):
                    fcntl.flock(place, fcntl.LOCK_EX | fcntl.LOCK_NB)
            mine = threading.Thread(target=run_fenced, args=(parse_length, "1 m"))
            mine.start()
            others[2].kill()
            mine.join()  # for ever, were the place lost
            for other in others:
                other.kill()
                other.communicate()


class Bombs(TestCase):
    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)

    def test_meshes_by_what_they_declare(self):
        with self.assertRaisesRegex(Problem, "66,666,666 faces"):
            meshes.read(gltf(200_000_000), "gltf")
        ply = b"ply\nformat ascii 1.0\nelement vertex 3\nelement face 900000000\nend_header\n"
        with self.assertRaisesRegex(Problem, "900,000,000 faces"):
            meshes.read(ply, "ply")
        count = meshes.MOST_TRIANGLES + 1
        stl = b"\0" * 80 + count.to_bytes(4, "little") + bytes(50 * count)
        with self.assertRaisesRegex(Problem, "2,000,001 faces"):
            meshes.read(stl, "stl")

    def test_pictures_by_what_they_declare(self):
        path = self.folder / "huge.png"
        path.write_bytes(png(20_000, 20_000))
        for read in (read_picture, returned.read):
            with self.assertRaisesRegex(Problem, "400 megapixels|20000 × 20000"):
                read(path)
        self.assertLess(MOST_PIXELS, 20_000**2)
        # A data window of 20,000 × 20,000 beside a small display window: the header is altered, no
        # pixel is there.
        small = self.folder / "small.exr"
        plain = {name: np.zeros((20, 30), np.float16) for name in "RGB"}
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        OpenEXR.File(header, plain).write(str(small))
        data = small.read_bytes()
        at = data.index(b"dataWindow\0box2i\0") + len(b"dataWindow\0box2i\0") + 4
        large = data[:at] + struct.pack("<4i", 0, 0, 19_999, 19_999) + data[at + 16 :]
        (self.folder / "large.exr").write_bytes(large)
        for read in (read_picture, returned.read):
            with self.assertRaisesRegex(Problem, "400 megapixels|20000 × 20000"):
                read(self.folder / "large.exr")

    def test_only_the_layers_that_are_wanted_are_decoded(self):
        layers = {
            f"layer{n}.{c}": np.zeros((500, 800), np.float32) for n in range(40) for c in "RGB"
        }
        picture = {name: np.full((500, 800), 0.25, np.float32) for name in "RGB"}
        path = self.folder / "layers.exr"
        header = {"compression": OpenEXR.ZIPS_COMPRESSION, "type": OpenEXR.scanlineimage}
        OpenEXR.File(header, layers | picture).write(str(path))
        # The file holds 190 MB; beside the libraries 150 MB are enough for the three channels.
        with Fence(memory=150_000_000) as fence:
            came = fence.run(returned.read, path)
        self.assertEqual(came.rgba.shape, (500, 800, 4))
        self.assertEqual(came.rgba.mean(axis=(0, 1)).tolist(), [0.25, 0.25, 0.25, 1.0])

    def test_a_survey_of_equal_names_ends(self):
        three = run_fenced(survey.read, b"Door,1,2,3\nDoor-3,2,3,4\nDoor,3,4,5", "a.csv", "m", "Y")
        self.assertEqual([point["name"] for point in three], ["Door", "Door-3", "Door-2"])
        many = run_fenced(survey.read, b"Door,1,2,3\n" * survey.MOST_POINTS, "a.csv", "m", "Y")
        self.assertEqual(len({point["name"] for point in many}), survey.MOST_POINTS)
        with self.assertRaisesRegex(Problem, "more than 20000 points"):
            survey.read(b"Door,1,2,3\n" * 3_500_000, "a.csv", "m", "Y")

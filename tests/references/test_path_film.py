"""The demo's film LT070 against the truth it was made with: its path within its own ±, and a
stand-in that VTK renders through the exported path.

The film is our own camera's, so it proves nothing of that; but it goes through H.264, the tracks
and the whole solution, and VTK shares no code with us.
"""

import tempfile
from pathlib import Path

import av
import numpy as np
from django.test import SimpleTestCase
from scipy.optimize import least_squares

from aperture.camera import Camera
from aperture.formats import usd
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.path.solve import solve
from aperture.scene.stand_in import StandIn
from aperture.track.by_hand import ByHand, follow_by_hand
from aperture.track.follow import Follower, Settings
from demo import films, show
from tests.references.test_other_renderer import SIZE, cover_by_vtk

FIRST = 1001
# A corner of the workbench's top, metres.
CORNER = np.array([2.0, 0.92, 0.78])
BOX = 0.12


def evidence() -> dict:
    """The film's tracks, and what the demo's artist marked on its first frame, whose spots are
    followed too."""
    drawn = show.match_of("LT070", films.truth("LT070")[0])
    with av.open(str(films.FOLDER / "LT070_walk.mp4")) as movie:
        pictures = {
            FIRST + index: frame.to_ndarray(format="gray")
            for index, frame in enumerate(movie.decode(video=0))
        }
    follower = Follower(Settings(300, 10), threads=2)
    for number, picture in pictures.items():
        follower.advance(number, picture)
    spots = [mark for mark in drawn["marks"] if mark["kind"] == "spot"]
    placed, _ = follow_by_hand(
        [ByHand(spot["id"], ((FIRST, *spot["at"]),)) for spot in spots],
        list(pictures),
        lambda some: ((number, pictures[number]) for number in some),
    )
    tracks = follower.finish().joined(placed)
    rows = []
    for index, id_ in enumerate(tracks.ids):
        own = slice(tracks.starts[index], tracks.starts[index + 1])
        table = np.column_stack([tracks.xy[own], tracks.sigma[own], tracks.cross[own]]).tolist()
        frames = tracks.frame[own].tolist()
        rows.append({"id": id_, "observations": [[f, *r] for f, r in zip(frames, table)]})
    rows[-2]["world"] = [0, 0, 0]
    return {
        "format": "accurate-aperture/match",
        "version": 2,
        "image": {"width": 1280, "height": 720},
        "gate": {"width_mm": 36.0, "height_mm": 20.25},
        "frames": {"first": FIRST, "last": FIRST + 99},
        "lens": drawn["lens"],
        "tracks": rows,
        "marks": [mark | {"frame": FIRST} for mark in drawn["marks"] if mark not in spots],
        "facts": drawn["facts"],
    }


class AWalkThroughTheBoathouse(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.fit = solve(evidence())
        cls.path = cls.fit.path
        cls.true = {FIRST + index: films.walk(index) for index in range(100)}

    def test_the_path_is_within_its_own_plus_minus_of_the_truth(self):
        told = self.fit.document
        self.assertTrue(told["ok"], told.get("problem"))
        off = (told["camera"]["focal_mm"] - 27.0) / told["plus_minus"]["focal_mm"]
        self.assertLess(abs(off), 2)
        true = np.array([camera.position for camera in self.true.values()])
        away = np.array(told["path"]["position_m"]) - true
        sigmas = away / np.array(told["path"]["position_plus_minus_m"])
        self.assertLess(np.sqrt((sigmas**2).mean(axis=0)).max(), 1.6)
        self.assertLess(np.abs(away).max(), 0.15)

    def test_a_stand_in_on_a_corner_stays_there_when_another_renderer_renders_it(self):
        seen = {
            frame: camera.project(CORNER[None])[0] for frame, camera in list(self.true.items())[::9]
        }

        def off(place):
            return np.concatenate(
                [self.path.at(frame).project(place[None])[0] - at for frame, at in seen.items()]
            )

        place = least_squares(off, CORNER).x
        plain = {  # a renderer's camera bends nothing
            frame: Camera(
                Grid.from_gate(*SIZE, 36.0, 20.25),
                Lens(float(self.path.at(frame).lens.focal_mm)),
                self.path.at(frame).world_from_camera,
            )
            for frame in seen
        }
        box = {"Box": StandIn((BOX, BOX, BOX), tuple(place - [0, BOX / 2, 0]))}
        apart = []
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "walk.usda"
            usd.write(file, plain[FIRST], box, path_of_camera=plain)
            for frame, at in seen.items():
                cover = cover_by_vtk(file, frame)
                rows, columns = np.mgrid[: SIZE[1], : SIZE[0]] + 0.5
                middle = [(cover * values).sum() / cover.sum() for values in (columns, rows)]
                ray = plain[frame].rays(np.array([middle]))
                own = self.path.at(frame)
                apart.append(own.project(own.position + 5 * ray)[0] - at)
        self.assertLess(np.linalg.norm(apart, axis=1).max(), 0.5)

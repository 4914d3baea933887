"""What looks wrong from one clip of a cut to the next: lenses that are nearly the same, a camera
that jumps up, and one that crosses the line of action."""

import math
from dataclasses import replace
from unittest.mock import patch

from django.test import TestCase

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from web.cut import actions, checks
from web.shows.history import create_shot, edit
from web.shows.models import Shot, Show
from web.stage import stand_ins

GRID = Grid.from_gate(1920, 1080, 24.0, 13.5)


def camera(place=(0.0, 1.6, 6.0), pan=0.0, focal=28.0, **lens):
    """One that looks along −Z from a place, turned by degrees."""
    return Camera.at(GRID, Lens(focal, **lens), place, math.radians(pan), 0.0, 0.0)


class FromClipToClip(TestCase):
    def setUp(self):
        self.show = Show.objects.create(name="The Lantern Tide", slug="tide", length_unit="m")
        for code in ("LT010", "LT020"):
            create_shot(self.show, code)

    def stand(self, code, **places):
        """Put stand-ins down in a shot, by name: (kind, (x, z)) or those and more of the item."""
        items = [
            stand_ins.new(kind, name.title(), id=name, base=[x, 0.0, z], **dict(*more))
            for name, (kind, (x, z), *more) in places.items()
        ]
        edit(self.show.shots.get(code=code), "set", lambda state: state.update(stand_ins=items))

    def remarks(self, first, second):
        """What is said where the first shot ends with one camera and the second begins with
        another."""
        by_key = {shot.pk: shot for shot in Shot.objects.with_head().filter(show=self.show)}
        cameras = {"LT010": first, "LT020": second}
        with patch.object(checks, "_camera", lambda shot, frame: cameras[shot.code]):
            return [(one.title, one.says) for one in checks.remarks_of(self.show, by_key)]

    def test_two_lenses_that_differ_by_little(self):
        ((title, says),) = self.remarks(camera(), camera((9.0, 1.6, 0.0), focal=30.0))
        self.assertEqual(title, "Focal lengths")
        self.assertIn("LT010 → LT020: 28.0 mm and 30.0 mm", says)
        for focal in (28.0, 28.1, 35.0, 18.0):  # the same one, and ones that are meant
            self.assertEqual(self.remarks(camera(), camera((9.0, 1.6, 0.0), focal=focal)), [])
        around = Grid(2000, 1000, ((1.0, 0.0, -1000.0), (0.0, 1.0, -500.0)))
        panorama = Camera.at(around, Lens(30.0, projection="equirectangular"), (9.0, 1.6, 0.0))
        self.assertEqual(self.remarks(camera(), panorama), [])  # its focal length is no lens's

    def test_a_camera_that_jumps_up_or_down_and_looks_the_same_way(self):
        for height, way in ((2.4, "0.80 m higher"), (0.9, "0.70 m lower")):
            ((title, says),) = self.remarks(camera(), camera((0.5, height, 6.0), pan=20.0))
            self.assertEqual(title, "Height")
            self.assertIn(way, says)
        self.assertEqual(self.remarks(camera(), camera((0.5, 1.9, 6.0))), [])  # hardly
        self.assertEqual(self.remarks(camera(), camera((0.5, 2.4, 6.0), pan=35.0)), [])
        self.assertEqual(self.remarks(camera(), camera((3.0, 2.4, 6.0))), [])  # elsewhere

    def test_a_camera_that_crosses_the_line_between_two_figures(self):
        both = {"keeper": ("figure", (-1.0, 0.0)), "pilot": ("figure", (1.0, 0.0))}
        for code in ("LT010", "LT020"):
            self.stand(code, crate=("box", (0.0, -1.0)), **both)
        here, beyond = camera((0.0, 1.6, 6.0)), camera((0.5, 1.6, -6.0), pan=180.0)
        ((title, says),) = self.remarks(here, beyond)
        self.assertEqual(title, "Line of action")
        self.assertIn("the line between Keeper and Pilot", says)
        self.assertEqual(self.remarks(here, camera((3.0, 1.6, 5.0), pan=20.0)), [])
        # Where the second clip doesn't show one of them, nothing is swapped in it.
        self.assertEqual(self.remarks(here, camera((0.0, 1.6, -6.0))), [])

    def test_without_figures_the_line_goes_through_the_two_largest_things(self):
        things = {
            "mast": ("box", (-2.0, 0.0), {"size": [1.0, 8.0, 1.0]}),
            "boat": ("box", (2.0, 0.0), {"size": [6.0, 2.0, 2.0]}),
            "crate": ("box", (0.0, 3.0), {"size": [0.5, 0.5, 0.5]}),
            "water": ("plane", (0.0, 0.0), {"size": [90.0, 0.0, 90.0]}),
        }
        for code in ("LT010", "LT020"):
            self.stand(code, **things)
        here, beyond = camera((0.0, 1.6, 12.0)), camera((0.5, 1.6, -12.0), pan=180.0)
        ((_, says),) = self.remarks(here, beyond)
        self.assertIn("Boat and Mast", says)
        self.stand("LT020", mast=things["mast"])
        self.assertEqual(self.remarks(here, beyond), [])  # only one is in both

    def test_a_shot_without_a_camera_and_two_clips_of_one_shot_say_nothing(self):
        self.assertEqual(self.remarks(None, camera()), [])
        by_key = {shot.pk: shot for shot in Shot.objects.with_head().filter(show=self.show)}
        cut = actions.cut_of(self.show, by_key)
        twice = replace(cut.clips[0], id="again")
        with (
            patch.object(checks, "_camera", lambda shot, frame: camera()),
            patch.object(actions, "cut_of", lambda *_: replace(cut, clips=(cut.clips[0], twice))),
        ):
            self.assertEqual(checks.remarks_of(self.show, by_key), [])

"""Renders with depth of field and motion blur against the thin-lens formula, another renderer, and
projected paths."""

import math
from dataclasses import replace
from unittest import TestCase

import mitsuba
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.light.focus import ThinLens
from aperture.light.motion import Shutter, camera_between, streaks
from aperture.light.pupil import Pupil
from aperture.render.exposed import Blur
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Light, Look
from aperture.scene.stand_in import StandIn
from aperture.scene.way import Way

SIZE = (320, 180)
GRID = Grid.from_gate(*SIZE, 36.0, 20.25)
GLOW = Light(sun=0, ambient=1.0)
# Of the blur spots: a narrow view, so that a spot is many px wide.
GATE = (9.0, 9.0 * 180 / 320)
NARROW = Grid.from_gate(*SIZE, *GATE)


SIDE = 0.003  # of the thing, over its distance
ROUND = Pupil()


def spot(distance, focus, stop, pupil=ROUND, focal=50.0, at=(0.0, 0.0), grid=NARROW):
    """The picture of a small thing at a distance, as much light as it has in all."""
    camera = Camera.at(grid, Lens(focal), (0, 0, 0))
    side = SIDE * distance
    base = (at[0] * distance, at[1] * distance - side / 2, -distance - side / 2)
    thing = StandIn((side, side, side), base)
    blur = Blur(ThinLens(focal, stop, focus), pupil)
    wanted = Wanted(samples=16, light=GLOW, blur=blur)
    return render(camera, [(thing, Look("spot"))], wanted).rgba[..., 3], camera


def moments(picture):
    """Middle (x, y) and standard deviations of a picture's light, px."""
    high, wide = picture.shape
    y, x = np.mgrid[:high, :wide] + 0.5
    share = picture / picture.sum()
    middle = (float((share * x).sum()), float((share * y).sum()))
    spread = [(share * (axis - m) ** 2).sum() for axis, m in zip((x, y), middle)]
    return middle, np.sqrt(np.array(spread))


def diameter(picture, camera):
    """Of the disc whose light spreads as much, the thing's own size taken off."""
    _, wide = moments(picture)
    own = (camera.focal_px[0] * SIDE) ** 2 / 12 + 1 / 12
    return float(4 * math.sqrt(np.mean(wide**2) - own))


class Spots(TestCase):
    def test_diameter_by_the_formula(self):
        """c = (f² / N) |d − s| / (d (s − f)) on the sensor (Ray 2002, from memory): within 1 %.

        The renderer's picture lies at the focal length, as a match has it, and not at the image
        distance s f / (s − f): so the formula's magnification is taken with s for s − f.
        """
        for distance, focus, stop in ((6.0, 2.0, 1.4), (2.0, 6.0, 1.4), (12.0, 3.0, 2.0)):
            picture, camera = spot(distance, focus, stop)
            lens = ThinLens(50.0, stop, focus)
            px = SIZE[0] / GATE[0]
            wanted = float(lens.blur_mm(distance)) * px * (focus - 0.05) / focus
            found = diameter(picture, camera)
            self.assertLess(abs(found / wanted - 1), 0.01, (distance, found, wanted))

    def test_another_renderer(self):
        """Mitsuba 3's thin lens, by path tracing, which shares no code with ours: within 1 %."""
        mitsuba.set_variant("scalar_rgb")
        distance, focus, stop, focal = 6.0, 2.0, 1.4, 50.0
        half = SIDE * distance / 2
        to_world = mitsuba.ScalarTransform4f()
        scene = mitsuba.load_dict(
            {
                "type": "scene",
                "integrator": {"type": "direct"},
                "sensor": {
                    "type": "thinlens",
                    "aperture_radius": focal / stop / 2000,
                    "focus_distance": focus,
                    "fov": math.degrees(2 * math.atan(GATE[0] / 2 / focal)),
                    "fov_axis": "x",
                    "to_world": to_world.look_at(origin=[0, 0, 0], target=[0, 0, -1], up=[0, 1, 0]),
                    "film": {
                        "type": "hdrfilm",
                        "width": SIZE[0],
                        "height": SIZE[1],
                        "crop_width": 60,
                        "crop_height": 60,
                        "crop_offset_x": (SIZE[0] - 60) // 2,
                        "crop_offset_y": (SIZE[1] - 60) // 2,
                        "rfilter": {"type": "box"},
                    },
                    "sampler": {"type": "multijitter", "sample_count": 1024},
                },
                "glow": {
                    "type": "rectangle",
                    "to_world": to_world.translate([0, 0, -distance]).scale(half),
                    "emitter": {"type": "area", "radiance": {"type": "rgb", "value": 1.0}},
                },
            }
        )
        theirs = np.array(mitsuba.render(scene))[..., 1]
        picture, camera = spot(distance, focus, stop)
        ours, reference = diameter(picture, camera), diameter(theirs, camera)
        self.assertLess(abs(ours / reference - 1), 0.01, (ours, reference))

    def test_shapes(self):
        """A blur spot in the render is the opening's own picture: blades, stretch, and the cat's
        eye cut outward."""
        for pupil in (Pupil(5, turn_deg=18), Pupil(squeeze=2.0), Pupil(spherical=0.8)):
            picture, camera = spot(20.0, 3.0, 1.4, pupil)
            middle, wide = moments(picture)
            expected, spread = moments(pupil.spot(size=256))
            own = (camera.focal_px[0] * SIDE) ** 2 / 12 + 1 / 12
            ratio = np.sqrt(wide**2 - own) / spread
            self.assertLess(abs(ratio[0] / ratio[1] - 1), 0.02, pupil)
            self.assertLess(abs(middle[0] - 160) + abs(middle[1] - 90), 2.0)
        pupil = Pupil(cats_eye=0.5, onset=0.0)
        aside, _ = spot(20.0, 3.0, 1.4, pupil, at=(0.05, 0.0))
        plain, _ = spot(20.0, 3.0, 1.4, at=(0.05, 0.0))
        (x, _), wide = moments(aside)
        (x0, _), wide0 = moments(plain)
        self.assertLess(wide[0], 0.95 * wide0[0])
        self.assertLess(x, x0 - 0.5)  # what is behind the focus is cut on its outer side
        # In front of the focus the spot is turned by half a turn.
        near, _ = spot(2.0, 6.0, 1.4, Pupil(3, turn_deg=30))
        far, _ = spot(20.0, 3.0, 1.4, Pupil(3, turn_deg=30))
        skew = [self._skew(each) for each in (near, far)]
        self.assertLess(skew[0] * skew[1], 0)

    @staticmethod
    def _skew(picture):
        """Third moment down the picture."""
        (_, y0), wide = moments(picture)
        y = np.arange(len(picture))[:, None] + 0.5
        share = picture / picture.sum()
        return float((share * (y - y0) ** 3).sum() / wide[1] ** 3)

    def test_sharp_is_as_without(self):
        """Without an opening or movement the blurred renderer gives the sharp one's picture, a
        bending lens included."""
        lens = Lens(24.0, coefficients=(-0.1, 0, 0, 0, 0))
        camera = Camera.at(GRID, lens, (0, 1.5, 4), 0.1, -0.15)
        items = [
            (StandIn((1, 1, 1), (0.2, 0, -1), 0.4), Look("box")),
            (StandIn((8, 0.1, 8), (0, -0.1, 0)), Look("floor", "checker")),
        ]
        for light in (Light(), Light(lamp=1.0, shadow_rays=4)):
            sharp = render(camera, items, Wanted(light=light)).rgba
            ours = render(camera, items, Wanted(light=light, blur=Blur(stops=1.0))).rgba
            self.assertLess(float(np.abs(ours[..., 3] - sharp[..., 3]).mean()), 1e-4)
            self.assertLess(float(np.abs(ours[..., :3] / 2 - sharp[..., :3]).mean()), 1e-3)

    def test_what_can_t_be(self):
        for make, says in (
            (lambda: ThinLens(50, 0, 3), "above zero"),
            (lambda: ThinLens(50, 2, -1), "before the camera"),
            (lambda: ThinLens(50, 2, 0.07), "nearer than twice"),
            (lambda: Pupil(2), "3 to 32 blades"),
            (lambda: Pupil(swirl=9), "swirl"),
            (lambda: Pupil(picture=np.zeros((4, 4))), "no light"),
            (lambda: Pupil(picture=np.full((4, 4), np.nan)), "grey"),
            (lambda: Shutter(-1), "some frames"),
            (lambda: Shutter(0.5, "sideways"), "centred"),
            (lambda: Shutter(0.5, readout_frames=3), "within one frame"),
        ):
            with self.assertRaisesRegex(Problem, says):
                make()


def moving(step=0.1, turn=-0.02, frames=3, grid=GRID):
    """A camera that goes to the right and turns to the right: both smear to the left."""
    numbers = np.arange(1, frames + 1)
    turns = np.array([rotation_from_angles(turn * (n - 2), 0, 0) for n in numbers])
    places = np.array([[step * (n - 2), 1.0, 0.0] for n in numbers])
    return CameraPath(grid, Lens(35.0), numbers, turns, places, np.full(frames, 35.0))


class Streaks(TestCase):
    def test_a_thing_is_smeared_along_its_way(self):
        """The render's streak goes from where the point is when the shutter opens to where it is
        when it closes."""
        path = moving()
        camera = path.at(2)
        at = np.array([0.4, 1.2, -5.0])
        side = 0.04
        thing = StandIn((side, side, 0.001), (at[0], at[1] - side / 2, at[2]))
        for phase, readout in (("start", 0.0), ("centre", 0.0), ("end", 0.4)):
            shutter = Shutter(0.5, phase, readout)
            blur = Blur(path=path, frame=2, shutter=shutter)
            wanted = Wanted(samples=16, light=GLOW, blur=blur)
            picture = render(camera, [(thing, Look("spot"))], wanted).rgba[..., 3]
            found = streaks(path, 2, at[None], shutter)
            (x, y), (wide, _) = moments(picture)
            middle = (found.starts[0] + found.ends[0]) / 2
            self.assertLess(abs(x - middle[0]), 0.3, phase)
            self.assertLess(abs(y - middle[1]), 0.3, phase)
            # A line's standard deviation is its length over √12; the thing's own and a pixel's off.
            own = (camera.focal_px[0] * side / 5) ** 2 / 12 + 1 / 12
            length = math.sqrt(12 * (wide**2 - own))
            self.assertLess(abs(length / found.lengths[0] - 1), 0.04, phase)

    @settings(max_examples=30, deadline=None)
    @given(st.floats(-0.4, 0.4), st.floats(-0.2, 0.2), st.floats(0.05, 1.0))
    def test_length_against_projection(self, step, turn, open_):
        """Of a short streak, the length is the distance between the projections at both ends."""
        path = moving(step, turn)
        point = np.array([[0.3, 1.4, -8.0]])
        found = streaks(path, 2, point, Shutter(open_, "start"))
        ends = [camera_between(path, moment).project(point)[0] for moment in (2, 2 + open_)]
        np.testing.assert_allclose(found.starts[0], ends[0], atol=1e-9)
        np.testing.assert_allclose(found.ends[0], ends[1], atol=1e-9)
        self.assertGreaterEqual(found.lengths[0] + 1e-9, np.linalg.norm(ends[1] - ends[0]))

    def test_what_moves_by_itself(self):
        """A thing that goes to the left before a still camera is smeared as one at rest before a
        camera that goes to the right: the renderer has other ways for the two. And it is the mean
        of many sharp pictures, checkers, its shadow and all.
        """
        path, at = moving(turn=0.0), (0.4, 1.0, -5.0)
        frames = path.frames.astype(float)
        places = np.array(at) - (path.positions - path.positions[1])
        way = Way(frames, places, np.tile(np.eye(3), (3, 1, 1)))
        blur = Blur(frame=2, shutter=Shutter(0.5, "centre", 0.3))
        wanted = Wanted(samples=16, light=GLOW, blur=blur)
        pictures = [
            render(
                path.at(2), [(thing, Look("thing"))], replace(wanted, blur=replace(blur, path=by))
            )
            for thing, by in (
                (StandIn((0.5, 0.4, 0.1), at), path),
                (StandIn((0.5, 0.4, 0.1), at, way=way), None),
            )
        ]
        theirs, ours = (picture.rgba[..., 3] for picture in pictures)
        self.assertLess(float(np.abs(ours - theirs).max()), 0.07)
        self.assertLess(float(np.abs(ours - theirs).mean()), 5e-4)
        turns = np.array([rotation_from_angles(0.6 * (n - 2), 0.2 * n, 0) for n in (1, 2, 3)])
        item = StandIn((0.8, 0.6, 0.8), at, way=Way(frames, places, turns, smooth=True)).at(2)
        floor = (StandIn((6, 0, 6), (0, 0.4, -5), kind="plane"), Look("floor"))
        # The plate that one wears goes along with it, and its stripes are smeared.
        plate = np.zeros((*SIZE[::-1], 3), np.float32)
        plate[:, ::8] = 1
        slid = StandIn(
            (1.2, 0.8, 0.001), at, way=Way(frames, places, np.tile(np.eye(3), (3, 1, 1)))
        )
        far = Blur(frame=2, shutter=Shutter(0.5, "centre"))
        worn, rest = (
            render(path.at(2), [(slid, Look("thing", "plate"))], Wanted(samples=8, blur=by), plate)
            for by in (far, Blur())
        )
        inside = (slice(60, 80), slice(155, 195))
        stripes = [float(np.ptp(one.rgba[inside][..., 0].mean(axis=0))) for one in (worn, rest)]
        self.assertLess(stripes[0], 0.75 * stripes[1])  # smeared by 3 px of 8
        self.assertGreater(stripes[0], 0.4 * stripes[1])
        for material in ("checker", "mirror"):  # the compiled shading, and the full one
            look = Look("thing", material)
            blur = Blur(frame=2, shutter=Shutter(0.5, "start"))
            smeared = render(path.at(2), [(item, look), floor], Wanted(samples=8, blur=blur))
            sharp = [
                render(path.at(2), [(item.at(moment), look), floor], Wanted(samples=2)).rgba
                for moment in 2 + 0.5 * (np.arange(48) + 0.5) / 48
            ]
            off = np.abs(smeared.rgba - np.mean(sharp, axis=0))
            self.assertLess(float(off.mean()), 0.003, material)
            self.assertLess(float(np.percentile(off, 99.5)), 0.08, material)

    def test_skew(self):
        """A camera that pans evenly leans uprights: x over y as its speed over the readout says."""
        path = moving(0.0, 0.05)  # points go to the right
        points = np.array([[0.0, 1.5, -6.0], [0.0, 0.5, -6.0]])
        shutter = Shutter(0.5, "centre", 0.5)
        skews = streaks(path, 2, points, shutter).skews
        seen = path.at(2).project(points)
        late = 0.5 * (seen[:, 1] / SIZE[1] - 0.5)
        speed = 0.05 * 35.0 / 36.0 * SIZE[0]  # px a frame, in the middle
        np.testing.assert_allclose(skews[:, 0], speed * late, rtol=0.01)

"""Moves laid into the set by what is known in both spaces, by hand, and as typed."""

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from scipy.spatial.transform import Rotation

from aperture.camera import Camera
from aperture.formats import recipe
from tests.web.test_shots import WithShot
from web.match.path_fits import camera_of_state, matched_camera
from web.match.worlds import turn_world
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.places import places_of

CRATE = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [1, 0, -1], "turn_deg": 20}
COLUMNS = (*recipe.USUAL, "gate_width_mm", "gate_height_mm")


class Laid(WithShot):
    """The matched camera of a shot comes in as a move whose space is turned and far away."""

    def setUp(self):
        super().setUp()
        self.ready()
        edit(self.shot, "Crate", lambda state: state.update(stand_ins=[CRATE]))
        self.shot = Shot.objects.with_head().get(pk=self.shot.pk)
        self.camera = matched_camera(self.state())
        self.world_from_move = np.eye(4)
        turn = Rotation.from_euler("yxz", [130, 2, -1], degrees=True).as_matrix()
        self.world_from_move[:3, :3], self.world_from_move[:3, 3] = turn, (5, 0.3, -20)
        pose = np.linalg.inv(self.world_from_move) @ self.camera.world_from_camera
        own = recipe.Recipe(columns=COLUMNS)
        text = recipe.write({1: Camera(self.camera.grid, self.camera.lens, pose)}, own, 24)
        self.shot.show.recipes.create(name="Rig", settings=own.to_json())
        pk = self.shot.show.recipes.get().pk
        file = SimpleUploadedFile("rig.csv", text.encode())
        self.press("moves/take", file=file, recipe=pk)
        self.places = places_of(self.shot)

    def page(self):
        return self.client.get(self.url("moves/m1/align"))

    def stands(self):
        return np.array(self.state()["moves"][0]["stands"]).reshape(4, 4)

    def table(self, names):
        lines = []
        for name in names:
            at = (self.world_from_move[:3, :3].T) @ (
                np.array(self.places[name]) - self.world_from_move[:3, 3]
            )
            lines.append(f'"{name}",{at[0]:.6f},{at[1]:.6f},{at[2]:.6f}')
        return "\n".join(lines)

    def test_points_of_the_moves_space_say_where_it_stands(self):
        names = [f"Crate, {side}" for side in ("lower front left", "upper back right")]
        text = self.table([*names, "Crate, lower back left"]) + "\nElsewhere,1,2,3"
        answer = self.press("moves/m1/points", text=text, unit="m", up_axis="Y", plus_minus="4 mm")
        self.assertEqual(answer.status_code, 302)
        page = self.page()
        self.assertContains(page, "Choose which point of the set it is")
        self.assertContains(page, "It stands elsewhere")
        self.press("moves/m1/stand-referred")
        np.testing.assert_allclose(self.stands(), self.world_from_move, atol=2e-5)
        self.assertNotContains(self.page(), "It stands elsewhere")
        self.press("moves/m1/serve")
        pixels = [[200, 950], [900, 800]]
        seen = camera_of_state(self.state()).project(self.camera.on_plane(pixels))
        np.testing.assert_allclose(seen, pixels, atol=0.05)
        # What is modelled moves, and its corner with it; the world turns, and the move goes along.
        moved = CRATE | {"base": [1.1, 0, -1]}
        edit(self.shot, "Moved", lambda state: state.update(stand_ins=[moved]))
        self.assertContains(self.page(), "0.1 m away")
        quarter = [[0, 0, 1], [0, 1, 0], [-1, 0, 0]]
        turn_world(self.shot, "Turned", quarter, (0, 0, 0), None)
        self.assertContains(self.page(), "0.1 m away")
        self.client.post(self.url("undo"), {"base": self.head()})
        # One that is wrong is named; turned off, the others agree.
        self.press("moves/m1/points", text='"Crate, upper front left",0,0,0', unit="m", up_axis="Y")
        self.assertContains(self.page(), "One reference disagrees")
        items = self.state()["alignments"]["m1"]["references"]
        on = {f"on_{one['id']}": "on" for one in items[:-1]}
        self.press("moves/m1/references", **on, **{f"gone_{items[3]['id']}": "on"}, level_deg="0.5")
        self.assertNotContains(self.page(), "One reference disagrees")
        self.assertEqual(len(self.state()["alignments"]["m1"]["references"]), len(items) - 1)
        self.press("moves/m1/remove")
        self.assertEqual(self.state()["alignments"], {})

    def test_spots_on_the_plate_say_it_too(self):
        for name in list(self.places)[:2] + [
            f"Crate, {one}"
            for one in (
                "lower front left",
                "upper front right",
                "upper back left",
                "lower back right",
            )
        ]:
            (at,) = self.camera.project([self.places[name]])
            answer = self.post_json(
                "moves/m1/sight", place=name, frame=1, at=at.tolist(), base=self.head()
            )
            self.assertEqual(answer.status_code, 200, answer.content)
        self.press("moves/m1/stand-referred")
        np.testing.assert_allclose(self.stands(), self.world_from_move, atol=2e-3)
        seen = self.client.get(self.url("moves/m1/seen"), {"frame": 1}).json()["references"]
        for one in seen:
            np.testing.assert_allclose(one["seen"], one["sighted"], atol=0.05)
        # The lens axis points at something else: that reference is off.
        self.post_json("moves/m1/sight", place="Crate, lower front left", frame=1, base=self.head())
        self.assertContains(self.page(), "One reference disagrees")

    def test_by_hand_and_typed(self):
        self.press("moves/m1/stand-typed", x="1.5 m", y="0", z="-2", heading="90", scale="")
        expected = [[0, 0, 1, 1.5], [0, 1, 0, 0], [-1, 0, 0, -2], [0, 0, 0, 1]]
        np.testing.assert_allclose(self.stands(), expected, atol=1e-12)
        stands = self.world_from_move.ravel().tolist()
        drag = {"frame": 1, "stands": stands, "way": "slide", "start": [900, 900]}
        answer = self.post_json("moves/m1/hand", **drag, end=[1000, 900]).json()
        self.post_json("moves/m1/stand", stands=answer["stands"], base=self.head())
        np.testing.assert_allclose(self.stands().ravel(), answer["stands"])
        self.press("moves/m1/serve")
        (seen,) = camera_of_state(self.state()).project(self.camera.on_plane([[900, 900]]))
        np.testing.assert_allclose(seen, [1000, 900], atol=0.05)
        before = self.head()
        for rest, body in (
            ("stand", {"stands": [0.0] * 16}),
            ("stand", {"stands": [1.0] * 9}),
            ("hand", drag | {"frame": 7, "end": [1, 1]}),
            ("sight", {"place": "Nowhere", "frame": 1}),
        ):
            answer = self.post_json(f"moves/m1/{rest}", **{"base": before} | body)
            self.assertIn(answer.status_code, (400, 422), (rest, answer.content))
        for typed in ({"scale": "0"}, {"x": "far"}):
            self.assertEqual(self.press("moves/m1/stand-typed", **typed).status_code, 422)
        self.assertEqual(self.press("moves/m1/references", level_deg="-1").status_code, 422)
        self.assertEqual(self.head(), before)

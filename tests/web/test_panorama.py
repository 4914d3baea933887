"""A panorama as a plate: recognised, taken as all around, matched, furnished, rendered, handed off."""

import io
import math

import numpy as np
from PIL import Image

from aperture.render import returned
from tests.references.test_panorama import SIZE, at, document
from tests.web.test_shots import WithShot
from web.elements.actions import Order, render_now
from web.match.path_fits import camera_of_state
from web.shows.history import edit
from web.shows.models import Shot


def picture(width, height):
    """A picture of some noise, as a file."""
    grey = np.random.default_rng(1).integers(60, 180, (height, width, 3)).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(grey).save(out, "PNG")
    return out.getvalue()


class Panorama(WithShot):
    def fresh(self):
        return Shot.objects.with_head().get(pk=self.shot.pk)

    def test_from_the_plate_to_a_render(self):
        self.upload("pano.png", picture(*SIZE))
        self.assertContains(self.client.get(self.url("gate")), "Take it as 360° × 180°")
        self.assertEqual(self.press("gate/all-around").status_code, 302)
        page = self.client.get(self.url("gate"))
        self.assertContains(page, "its gate is an angle, 360° × 180°, not millimetres")
        self.assertContains(self.client.get("/shows/tide/"), "360° × 180°")
        camera = at((1.5, 1.7, 2.2), 0.3, 0.05, -0.03)
        drawn = document(camera, np.random.default_rng(4))
        saved = self.post_json("match/save", marks=drawn["marks"], base=self.head(), label="Marks")
        self.assertEqual(saved.status_code, 200, saved.content)
        edit(self.shot, "Fact", lambda state: state.update(facts=drawn["facts"]))
        found = camera_of_state(self.state())
        np.testing.assert_allclose(found.position, camera.position, atol=0.05)
        self.assertAlmostEqual(found.view.horizontal, math.tau)
        crate = {"id": "b1", "name": "Crate", "size": [1, 1, 1], "base": [1.5, 0, 6], "turn_deg": 0}
        edit(self.shot, "Crate", lambda state: state.update(stand_ins=[crate]))
        for step in ("plate", "gate", "match", "set", "expose", "expose/focus", "expose/blur",
                     "expose/look", "elements", "line-up", "hand-off"):  # fmt: skip
            self.assertEqual(self.client.get(self.url(step)).status_code, 200, step)
        self.assertContains(self.client.get(self.url("hand-off")), "A panorama is no such camera")
        # What stands behind the camera is in the render, at both borders.
        render_now(self.fresh(), Order(("depth",), samples=1))
        row = self.shot.renders.first()
        alpha = returned.read(row.folder / "render.exr").rgba[..., 3]
        seen = found.project(np.array([[1.5, 0.5, 6.0]]))[0]
        self.assertGreater(alpha[int(seen[1]) % SIZE[1], int(seen[0]) % SIZE[0]], 0.9)
        refused = self.client.get(
            self.url("expose/map/sharp.png"), headers={"Accept": "application/json"}
        )
        self.assertIn(refused.status_code, (200, 422))

    def test_a_picture_of_another_shape_is_not_asked(self):
        self.upload("flat.png", picture(640, 360))
        self.assertNotContains(self.client.get(self.url("gate")), "Take it as 360°")
        self.assertEqual(
            self.client.get(self.url("gate/claims?angle=150&focal=14.66")).status_code, 200
        )

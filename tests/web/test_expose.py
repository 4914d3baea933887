"""The Expose step: the plate's exposure with its origins, the virtual camera's, typed."""

import math

from tests.web.test_organise import picture
from tests.web.test_shots import WithShot
from web.shows.history import edit, set_locked, undo
from web.shows.models import Shot


class Expose(WithShot):
    def page(self):
        return self.client.get(self.url("expose"))

    def type(self, **fields):
        fields = {"f_number": "", "shutter": "", "iso": "", "base": self.head()} | fields
        return self.client.post(self.url("expose"), fields)

    def test_the_plate_s_exposure_is_the_camera_s_until_another_is_typed(self):
        self.assertContains(self.page(), "There is no plate yet")
        self.upload()
        page = self.page()
        self.assertContains(page, "f/4")
        self.assertContains(page, "exposed as the plate was")
        self.assertContains(self.client.get("/shows/tide/"), "EV 7.9")
        self.assertEqual(self.type(f_number="f/2.8", shutter="172.8°").status_code, 302)
        typed = self.state()["exposure"]
        self.assertEqual(set(typed), {"f_number", "angle"})
        self.assertAlmostEqual(typed["angle"], math.radians(172.8))
        page = self.page()
        self.assertContains(page, "172.8° (1/50 s)")
        # log2((4 / 2.8)²) + log2(60 / 50): a stop more of one, a quarter of a stop of the other.
        self.assertContains(page, "1.29 stops brighter")
        self.show.rate_numerator = 48  # an angle follows the rate
        self.show.save()
        self.assertContains(self.page(), "172.8° (1/100 s)")
        # A camera's lock is about where it stands and what it sees, not how bright it is.
        set_locked(Shot.objects.with_head().get(), True)
        self.assertEqual(self.type().status_code, 302)
        self.assertEqual(self.state()["exposure"], {})

    def test_what_cannot_be_used_stays_typed(self):
        self.upload()
        answer = self.type(f_number="f/0", shutter="400°", iso="<b>")
        self.assertEqual(answer.status_code, 422)
        self.assertContains(answer, "at most 360°", status_code=422)
        self.assertContains(answer, 'value="400°"', status_code=422)
        self.assertEqual(self.state()["exposure"], {})

    def test_a_plate_whose_file_says_nothing(self):
        self.upload()
        edit(self.shot, "another", lambda state: state.update(plate_facts={"iso": 800.0}))
        self.client.post(self.url("plate"), {"picture": picture("plain.jpg"), "base": self.head()})
        page = self.page()
        self.assertContains(page, "The plate&#x27;s file doesn&#x27;t say: Stop, Shutter, ISO")
        self.assertContains(self.client.get("/shows/tide/"), "no exposure")

    def test_another_window(self):
        """Exposure and marks don't touch each other; two exposures do, and mine can be taken."""
        self.upload()
        base = self.head()
        edit(self.shot, "marks", lambda state: state.update(card_m=2))
        self.assertEqual(self.type(iso="800", base=base).status_code, 302)
        self.assertEqual((self.state()["card_m"], self.state()["exposure"]), (2, {"iso": 800}))
        page = {"referer": f"http://testserver{self.url('expose')}"}
        fields = {"f_number": "", "shutter": "", "iso": "1600", "base": base}
        answer = self.client.post(self.url("expose"), fields, headers=page)
        self.assertContains(answer, "Take mine instead", status_code=409)
        self.assertContains(answer, f'name="back" value="{self.url("expose")}"', status_code=409)
        kept, newest = answer.context["kept"], answer.context["newest"]
        taken = self.client.post(
            self.url(f"restore/{kept}"), {"base": newest, "back": self.url("expose")}
        )
        self.assertEqual(taken["Location"], self.url("expose"))
        self.assertEqual(self.state()["exposure"], {"iso": 1600})
        undo(self.shot)
        self.assertEqual(self.state()["exposure"], {"iso": 800})

"""What a form shows is read back as it was: of facts, marks and lenses, of the catalogue, of a
render's order and of light. So saving a form for one field changes nothing else."""

from dataclasses import asdict, replace

from django.test import SimpleTestCase

from aperture.light.character.look import Look
from aperture.light.pupil import Pupil
from aperture.render.tracer import Light
from tests.web.test_step_forms import close
from web.catalogue.forms import BodyForm, LensForm, ModeForm
from web.elements.actions import Order
from web.elements.forms import OrderForm
from web.expose.blur_views import PupilForm
from web.expose.forms import ExposureForm
from web.expose.look_views import LookForm
from web.match.fact_forms import FORMS, NAMES
from web.match.fact_forms import LensForm as MatchedLens
from web.match.forms import MarkForm
from web.plates.forms import PlateFactsForm
from web.shows.models import Show

UNITS = ("m", "cm", "mm", "ft", "in")
SPOTS = [{"id": "s1"}, {"id": "s2"}]
FACTS = [
    {"kind": "length", "from": "s1", "to": "s2", "along": "up", "metres": 2.0312345678},
    {"kind": "camera_height", "metres": 1.6000049},
    {"kind": "camera_position", "metres": [None, 1.23456789, -4.0]},
    {"kind": "camera_angle", "of": "tilt", "degrees": -12.3456789},
    {"kind": "angle_of_view", "basis": "vertical", "degrees": 40.0000123},
    {"kind": "focal_range", "from_mm": 24.0, "to_mm": 70.123456},
]
LENSES = [
    {"projection": "rectilinear", "principal_point": "free", "distortion": {"free": ["k1"]}},
    {
        "projection": "rectilinear",
        "principal_point": {"value": [960.123456, 540.0], "plus_minus": 2.125},
        "distortion": {"k1": -0.081234567891, "k2": {"value": 1.25e-05, "plus_minus": 3.3e-07}},
    },
    {"projection": "equisolid", "principal_point": [1000.5, 501.25], "distortion": "none"},
]


def show(unit):
    return Show(name="The Lantern Tide", slug="tide", length_unit=unit)


class OfTheMatch(SimpleTestCase):
    def test_facts_in_every_unit(self):
        for fact in FACTS:
            for unit in UNITS:
                with self.subTest(kind=fact["kind"], unit=unit):
                    told = fact | {"plus_minus": 0.00123456, "name": "The beam"}
                    kind = FORMS[NAMES[fact["kind"]]]
                    shown = kind.initial_of(told, show(unit)) | {"base": "1"}
                    form = kind(shown, show=show(unit), spots=SPOTS)
                    self.assertTrue(form.is_valid(), form.errors)
                    self.assertTrue(close(told, form.fact()), f"{told}\n{form.fact()}")

    def test_a_surveyed_spot_in_every_unit(self):
        mark = {
            "id": "s1",
            "kind": "spot",
            "name": "Bollard",
            "at": [1234.5678, 98.7654],
            "sigma_px": 0.4,
            "world": [12.345678, None, -0.000123],
            "world_plus_minus": 0.0021234,
        }
        for unit in UNITS:
            with self.subTest(unit):
                shown = MarkForm(mark=mark, show=show(unit)).initial
                typed = shown | {"base": "1", "name": mark["name"], "sigma_px": "0.4"}
                form = MarkForm(typed, mark=mark, show=show(unit))
                self.assertTrue(form.is_valid(), form.errors)
                self.assertTrue(close(mark, form.cleaned_data["mark"]), form.cleaned_data["mark"])

    def test_lenses(self):
        for lens in LENSES:
            with self.subTest(lens["principal_point"]):
                form = MatchedLens(MatchedLens.initial_of(lens) | {"base": "1"})
                self.assertTrue(form.is_valid(), form.errors)
                self.assertTrue(close(lens, form.cleaned_data["lens"]), form.cleaned_data["lens"])


class OfTheCatalogue(SimpleTestCase):
    def document(self, form):
        self.assertTrue(form.is_valid(), form.errors)
        return form.document

    def test_a_body(self):
        body = {"maker": "Fog", "name": "Harbour 4", "notes": "", "photosites": [4608, 3164]}
        shown = BodyForm.initial_of(body)
        self.assertEqual(self.document(BodyForm(shown, initial=shown)), body)

    def test_a_mode(self):
        mode = {
            "name": "Open gate",
            "window": [10, 0, 4588, 3164],
            "width_mm": 28.248123456,
            "height_mm": 19.48,
            "recorded": [2294, 1582],
            "squeezes": [1.0, 1.3333333333333333, 2.0],
            "rates": ["24000/1001", "25"],
        }
        form = ModeForm(ModeForm.initial_of(mode), photosites=(4608, 3164))
        self.assertTrue(close(self.document(form), mode), form.document)

    def test_a_window_without_a_corner_lies_in_the_middle(self):
        typed = {"mode": "Wide", "width": "4000", "height": "2000"}
        typed |= {"width_mm": "24 mm", "height_mm": "1.2 cm", "squeezes": "", "rates": ""}
        form = ModeForm(typed, photosites=(4608, 3164))
        self.assertEqual(self.document(form)["window"], [304, 582, 4000, 2000])
        self.assertEqual(form.document["height_mm"], 12.0)

    def test_a_lens(self):
        zoom = {
            "maker": "Fog",
            "name": "Tide 18–40",
            "notes": "Breathes.",
            "focal_mm": [18.0, 40.125],
            "stops": [2.8284271, 22.0],
            "squeeze": 1.3333333333333333,
            "projection": "rectilinear",
            "close_focus_m": 0.304812345,
            "entrance_pupil_mm": 101.2345678,
            "distortion": [
                {"focal_mm": 18.1234567, "k1": -0.123456789, "k2": 1.25e-05}
                | {name: 0.0 for name in ("k3", "p1", "p2")}
            ],
        }
        prime = zoom | {"focal_mm": [35.0, 35.0], "distortion": []}
        for name in ("stops", "close_focus_m", "entrance_pupil_mm"):
            del prime[name]
        for lens in (zoom, prime):
            form = LensForm(LensForm.initial_of(lens))
            self.assertTrue(close(lens, self.document(form)), form.document)

    def test_what_can_t_be_is_told_beside_its_field(self):
        form = LensForm(
            {
                "name": "",
                "focal": "18–40–70",
                "stops": "wide",
                "squeeze": "x",
                "projection": "rectilinear",
                "close_focus": "near",
                "distortion": "35",
            }
        )
        wrong = {"name", "focal", "stops", "squeeze", "close_focus", "distortion"}
        self.assertEqual(set(form.errors), wrong)
        self.assertIn("two with a dash between them", str(form.errors["focal"]))
        typed = {"mode": "A", "width": "0", "height": "2.5", "left": "-1", "recorded_width": "9"}
        form = ModeForm(typed | {"width_mm": "0", "height_mm": "-2"}, photosites=(10, 10))
        told = {"width", "height", "left", "recorded_height", "width_mm", "height_mm"}
        self.assertEqual(set(form.errors), told)


class OfARender(SimpleTestCase):
    def test_an_order_in_every_unit(self):
        light = Light(
            123.4567891,
            -12.5,
            3.25,
            ambient=0.123456789,
            lamp=2.5,
            lamp_at=(1.2345678, 2.5, -0.001),
        )
        light = replace(light, lamp_m=0.3333333333, shadow_rays=8)
        order = Order(
            passes=("depth",),
            samples=4,
            overscan=12.3456789,
            occlusion_m=0.123456789,
            region=(400, 200, 900, 700),
            light=light,
            frames=(1001, 1010),
            depth=True,
            motion=True,
            exposed=True,
        )
        for unit in UNITS:
            with self.subTest(unit):
                shown = OrderForm(show=show(unit), order=order).initial
                form = OrderForm(shown, show=show(unit), order=Order())
                self.assertTrue(form.is_valid(), form.errors)
                found = form.cleaned_data["order"]
                one, other = ({**asdict(each), "light": 0} for each in (order, found))
                self.assertTrue(close(one, other), f"{one}\n{other}")
                lights = (dict(asdict(each.light)) for each in (order, found))
                one, other = ({**each, "lamp_at": list(each["lamp_at"])} for each in lights)
                self.assertTrue(close(one, other), f"{one}\n{other}")


class OfLight(SimpleTestCase):
    def test_one_figure_of_the_exposure_is_typed_and_the_others_stay(self):
        """Thirds of stops, densities and held shutters have more digits than are shown."""
        own = {
            "f_number": 5.039684199579493,
            "seconds": 0.0208123456,
            "iso": 400.0,
            "nd_stops": 2.9897352853986264,
            "transmittance": 0.851234567,
        }
        for shutter in ({"seconds": 0.0208123456}, {"angle": 3.0159289474462}):
            own = {key: own[key] for key in own if key not in ("seconds", "angle")} | shutter
            shown = ExposureForm.initial_of(own)
            form = ExposureForm(shown | {"base": "1", "iso": "800"}, own=own, hints={})
            self.assertTrue(form.is_valid(), form.errors)
            self.assertEqual(form.exposure(), own | {"iso": 800.0})
            emptied = ExposureForm(shown | {"base": "1", "nd": ""}, own=own, hints={})
            self.assertTrue(emptied.is_valid(), emptied.errors)
            self.assertEqual(emptied.exposure().keys(), own.keys() - {"nd_stops"})

    def test_another_way_to_say_the_shutter_takes_the_first_one_s_place(self):
        own = {"seconds": 0.02}
        form = ExposureForm({"base": "1", "shutter": "180°"}, own=own, hints={})
        self.assertTrue(form.is_valid(), form.errors)
        self.assertEqual(form.exposure().keys(), {"angle"})

    def test_a_look(self):
        look = Look(
            fall_off=(0.0, -0.312345678, 0.0123456789),
            bloom=0.123456789,
            seed=812345,
            grain=0.0312345678,
            response="own",
            points=((-4.0, -3.8123456), (0.0, 0.0), (4.0, 2.4)),
            cos4=True,
        )
        shown = {name: field.initial for name, field in LookForm(own=look).fields.items()}
        form = LookForm(shown | {"base": "1"}, own=look)
        self.assertTrue(form.is_valid(), form.errors)
        found = form.cleaned_data["look"]
        self.assertEqual(found.seed, look.seed)
        one, other = (
            {name: list(map(list, value)) if name == "points" else value for name, value in each}
            for each in (asdict(look).items(), asdict(found).items())
        )
        one["fall_off"], other["fall_off"] = list(one["fall_off"]), list(other["fall_off"])
        self.assertTrue(close(one, other), f"{one}\n{other}")

    def test_an_opening(self):
        pupil = Pupil(blades=7, turn_deg=12.3456789, curvature=0.3333333333, squeeze=4 / 3)
        shown = {name: field.initial for name, field in PupilForm(pupil=pupil).fields.items()}
        form = PupilForm(shown | {"base": "1"}, pupil=pupil)
        self.assertTrue(form.is_valid(), form.errors)
        self.assertTrue(close(pupil.to_json(), form.cleaned_data["pupil"].to_json()))

    def test_what_the_plate_s_file_says_stays_the_file_s(self):
        told = {
            "maker": "Fog",
            "focal_mm": 27.9990001,
            "f_number": 5.6568542,
            "exposure_time": 1 / 47.952,
            "iso": 12800.0,
        }
        shown = PlateFactsForm.initial_of(told, "srgb") | {"base": "1"}
        form = PlateFactsForm(shown)
        self.assertTrue(form.is_valid(), form.errors)
        self.assertEqual(form.facts(told, "srgb"), {})
        form = PlateFactsForm(shown | {"iso": "ISO 800", "transfer": "linear", "lens": "Prime"})
        self.assertTrue(form.is_valid(), form.errors)
        changed = {"lens": "Prime", "iso": 800.0, "transfer": "linear"}
        self.assertEqual(form.facts(told, "srgb"), changed)
        wrong = PlateFactsForm(shown | {"iso": "0", "f_number": "wide", "exposure_time": "1 year"})
        self.assertEqual(set(wrong.errors), {"iso", "f_number", "exposure_time"})

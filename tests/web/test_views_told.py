"""Views of a panorama as they are typed, and what is said of the seams between them."""

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from aperture.around.recombine import Seam
from aperture.around.views import View
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from web.around.cutting import _sized, lines_of, own_from_lines, seam_words

VIEWS = [View("Slipway", 0, 0), View("Tower", 90, 0), View("Sky", 0, 90)]


def seam(first=0, second=1, **more):
    said = {"code": 1.25, "brighter": 0.0, "shift_px": 0.05, "pixels": 9000}
    return Seam(first, second, **said | more)


class Typed(SimpleTestCase):
    @given(
        st.lists(
            st.tuples(
                st.sampled_from(["Slipway", "Möwe", "view 3"]),
                st.floats(-179, 179).map(lambda value: round(value, 7)),
                st.floats(-89, 89).map(lambda value: round(value, 7)),
                st.floats(10, 150).map(lambda value: round(value, 7)),
                st.integers(16, 4096),
            ),
            max_size=4,
        )
    )
    def test_what_is_shown_is_read_back_as_it_was(self, rows):
        views = [View(name, pan, tilt, angle, px, px) for name, pan, tilt, angle, px in rows]
        self.assertEqual(own_from_lines(lines_of(views)), views)

    def test_as_people_type_them(self):
        ((view),) = own_from_lines("\n Slipway; −12.5°, 3°; 90; 2048 × 1024 \n\n")
        self.assertEqual(view, View("Slipway", -12.5, 3.0, 90.0, 2048, 1024))
        self.assertEqual(own_from_lines("A, 0, 0, 90, 640x480")[0].height, 480)

    def test_a_line_that_can_t_be_read_is_told_by_its_number(self):
        for text, line in (
            ("A, 0, 0, 90", 1),
            ("A, 0, 0, 90, 64, 64\n\nB, west, 0, 90, 64, 64", 3),
            ("A, 0, 0, 90, 64.5, 64", 1),
            ("A, 0, 0, 90, 64, 64, 7", 1),
        ):
            with self.assertRaisesRegex(Problem, f"^Line {line}: type a name, pan, tilt"):
                own_from_lines(text)
        with self.assertRaises(Problem):
            own_from_lines(", 0, 0, 90, 64, 64")  # no name


class Seams(SimpleTestCase):
    def test_those_that_meet_are_told_in_one_sentence(self):
        says = seam_words([seam(), seam(1, 2, code=2.5, shift_px=0.21)], VIEWS)
        self.assertEqual(
            says,
            ["2 seams: 95 % within 2.5 of 255 code values, and at most 0.21 px beside each other."],
        )
        (unknown,) = seam_words([seam(shift_px=float("nan"))], VIEWS)
        self.assertEqual(unknown, "1 seam: 95 % within 1.2 of 255 code values.")
        self.assertIn("No two views overlap", seam_words([], VIEWS)[0])

    def test_each_pair_that_doesn_t_meet_is_told_once_with_what_may_have_happened(self):
        found = [
            seam(shift_px=14.2),
            seam(shift_px=13.9),  # another frame of the same pair
            seam(1, 2, brighter=-38.0),
        ]
        _, slipped, darker = seam_words(found, VIEWS)
        self.assertIn("“Slipway” and “Tower” don’t meet: they lie 14.2 px beside", slipped)
        self.assertIn("turned, mirrored or cropped", slipped)
        self.assertEqual(darker, "“Tower” and “Sky” differ in brightness, by 38 code values.")


class Sizes(SimpleTestCase):
    def test_a_render_of_the_view_s_shape_is_taken_at_any_size(self):
        camera = Camera.at(Grid.from_gate(2048, 1024, 36.0, 18.0), Lens(18.0), (0, 0, 0))
        self.assertIs(_sized(camera, (1024, 2048, 4), "A"), camera)
        half = _sized(camera, (512, 1024, 4), "A")
        self.assertEqual((half.grid.width, half.grid.gate_mm), (1024, camera.grid.gate_mm))
        with self.assertRaisesRegex(Problem, "“A” has 1024 × 768 px.*another shape"):
            _sized(camera, (768, 1024, 4), "A")

"""Films in time and in the later steps: shifted, turned, stabilised, set by a flash, lined up."""

import cv2
import numpy as np

from tests.filmed import number_in, numbered
from tests.web.on_film import Filmed
from web.elements.models import Render
from web.gates.gate import chain_of
from web.lineup.models import Returned, Snapshot
from web.plates.frames import frame_at, frames_now
from web.plates.models import Film
from web.shows.history import edit, undo


class Times(Filmed):
    def test_the_shot_is_shifted_with_all_that_belongs_to_it(self):
        self.bring("rise.mp4", "copy")
        spot = {"id": "s1", "kind": "spot", "at": [5.0, 5.0]}
        edit(self.shot_now(), "Spot", lambda state: state.update(marks=[spot]))
        answer = self.client.post(
            self.url("plate/range"), {"range": [5, 20]}, content_type="application/json"
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        sizes = {"width": 192, "height": 108, "seconds": 1, "revision": 1, "digest": "x"}
        render = Render.objects.create(shot=self.shot, first=5, last=7, **sizes)

        def now():
            state = self.shot_now().state
            return frame_at(state), state["range"], frames_now(state, render), len(state["marks"])

        self.assertEqual(now(), (1, [5, 20], [5, 6, 7], 1))
        self.client.post(self.url("plate/shift"), {"first": "1000", "what": "shot"})
        self.assertEqual(now(), (999 + 1, [1004, 1019], [1004, 1005, 1006], 1))
        self.client.post(self.url("plate/frame"), {"frame": "1010"})
        self.client.post(self.url("plate/frame"), {"frame": "1000"})
        self.assertEqual(now()[3], 1)
        # Only the pictures: what counts the shot's frames stays behind.
        self.client.post(self.url("plate/shift"), {"first": "990", "what": "pictures"})
        self.assertEqual(now(), (990, [1004, 1019], [1004, 1005, 1006], 1))
        for _ in range(4):
            undo(self.shot_now(), self.shot_now().head.number)
        self.assertEqual(now(), (1, [5, 20], [5, 6, 7], 1))
        # A range that ends before it begins, and frames beyond all bounds, are refused.
        for wanted in ([20, 5], [1, 3_000_000_000], [1], ["a", "b"]):
            answer = self.client.post(
                self.url("plate/range"), {"range": wanted}, content_type="application/json"
            )
            self.assertEqual(answer.status_code, 422, wanted)
        self.assertEqual(
            self.client.post(self.url("plate/shift"), {"first": "9999999999"}).status_code, 422
        )
        self.assertEqual(now(), (1, [5, 20], [5, 6, 7], 1))


class OnTheWayIn(Filmed):
    def way(self, status=302, **wanted):
        answer = self.client.post(self.url("plate/way-in"), {"quarters": "0"} | wanted)
        self.assertEqual(answer.status_code, status)

    def seen(self, number, way):
        """The number in the real pixels of a film's picture that came in turned by 180°."""
        film = Film.objects.get()
        answer = self.client.get(f"/films/{film.digest}/tile/{number}/0/0.png?way={way}")
        tile = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR)
        return number_in(tile[:108, :192][::-1, ::-1])

    def test_a_film_is_turned_with_its_marks(self):
        self.bring("walk.1001.png", "copy", "day1")
        edge = {"id": "e1", "kind": "edge", "axis": "up", "points": [[10, 20], [10, 90]]}
        spot = {"id": "s1", "kind": "spot", "at": [30.0, 40.0], "sigma_px": 0.5}
        edit(self.shot_now(), "Marks", lambda state: state.update(marks=[edge, spot]))
        self.client.post(self.url("plate/frame"), {"frame": "1005"})
        self.way(quarters="2")
        self.assertEqual(self.seen(1003, "2"), 1003)
        self.client.post(self.url("plate/frame"), {"frame": "1001"})
        state = self.shot_now().state
        self.assertEqual([mark.get("points") for mark in state["marks"]][0], [[182, 88], [182, 18]])
        self.assertEqual(state["marks"][1]["at"], [162.0, 68.0])
        folder = self.shot_now().state["plate"]["digest"]
        proxy = self.client.get(f"/plates/{folder}/proxy.jpg")
        data = np.frombuffer(b"".join(proxy.streaming_content), np.uint8)
        turned = cv2.imdecode(data, cv2.IMREAD_COLOR)
        self.assertEqual(number_in(turned[::-1, ::-1]), 1001)
        # A quarter and half the width, and back to as it was: marks come back to where they were
        # drawn.
        self.way(quarters="1", width="54", status=422)
        self.way(quarters="1", width="64", flip="on")
        plate = self.shot_now().state["plate"]
        self.assertEqual((plate["width"], plate["height"]), (64, 114))
        self.assertLess(self.shot_now().state["marks"][1]["sigma_px"], 0.5)
        self.way()
        state = self.shot_now().state
        np.testing.assert_allclose(state["marks"][1]["at"], [30, 40], atol=1e-3)
        self.assertEqual((state["way_in"], state["plate"]["width"]), ({}, 192))

    def test_a_photograph_too(self):
        self.bring("walk.1001.png", "copy", "day1")
        path = self.media / "still.png"
        cv2.imwrite(str(path), numbered(77))
        self.bring("still.png", "copy")
        self.way(flip="on", quarters="2")
        self.way(quarters="2", width="96")
        plate = self.shot_now().state["plate"]
        self.assertEqual((plate["name"], plate["width"], plate["height"]), ("still.png", 96, 54))
        undo(self.shot_now(), self.shot_now().head.number)
        self.assertEqual(self.shot_now().state["way_in"], {"flip": True, "quarters": 2})


class Clapper(Filmed):
    def test_a_lamp_sets_the_frames(self):
        rng = np.random.default_rng(1)
        ground = cv2.GaussianBlur(rng.integers(40, 160, (270, 480, 3), np.uint8), (0, 0), 2)
        for number in range(100, 140):
            seen = np.roll(ground, number, axis=1)
            if number in (117, 118):
                cv2.circle(seen, (100, 60), 5, (80, 250, 60), -1)
            cv2.imwrite(str(self.media / f"day1/arm.{number}.jpg"), seen)
        self.bring("arm.100.jpg", "copy", "day1")
        self.client.post(self.url("plate/way-in"), {"quarters": "2"})
        answer = self.client.post(self.url("plate/flashes"), {"region": ""})
        self.assertEqual(answer.status_code, 302)
        page = self.client.get(self.url("plate"))
        found = page.context["clapper"]["flashes"][0]
        self.assertEqual((found["number"], found["frame"], found["colour"]), (117, 117, "green"))
        # The picture is turned, and so is the place.
        self.assertLess(np.abs(np.subtract([found["x"], found["y"]], [380, 210])).max(), 6)
        self.client.post(self.url("plate/clapper"), {"number": "117", "frame": "0"})
        state = self.shot_now().state
        self.assertEqual((frame_at(state, 117), frame_at(state, 100)), (0, -17))
        # Only where it is looked for; areas that aren't any.
        self.client.post(self.url("plate/flashes"), {"region": "0.6,0.6,0.95,0.95"})
        clapper = self.client.get(self.url("plate")).context["clapper"]
        self.assertEqual(clapper["flashes"][0]["number"], 117)
        self.assertEqual(clapper["region"], "0.6000,0.6000,0.9500,0.9500")
        self.client.post(self.url("plate/flashes"), {"region": "0,0,0.5,0.5"})
        numbers = [
            one["number"]
            for one in self.client.get(self.url("plate")).context["clapper"]["flashes"]
        ]
        self.assertNotIn(117, numbers)
        for region in ("a,b,c,d", "0.5,0.5,0.5,0.5", "nan,0,1,1", "1,2"):
            answer = self.client.post(self.url("plate/flashes"), {"region": region})
            self.assertEqual(answer.status_code, 422, region)


class StabilisedFilm(Filmed):
    def put(self, status=302, **values):
        answer = self.client.post(
            self.url("gate/step"), {"do": "stabilise", "before_plate": "1", "after": "0"} | values
        )
        self.assertEqual(answer.status_code, status)
        return answer

    def test_a_value_for_each_frame(self):
        self.bring("rise.mp4", "copy")
        self.client.post(self.url("gate"), {"width": "24", "height": "13.5", "squeeze": "1"})
        self.client.post(self.url("plate/shift"), {"first": "1001", "what": "shot"})
        self.put(422, values="1001 2 3\n1001 2 3")
        self.put(422, values="1001 2")
        self.put(422, values="1001 2 x")
        self.put(values="1001, 2, -1\n1011, 12, -1, 0.5, 1.02")

        def centre():
            return np.round(chain_of(self.shot_now().state).axis_px, 2).tolist()

        self.assertEqual(centre(), [98.0, 53.0])
        self.client.post(self.url("plate/frame"), {"frame": "1006"})
        self.assertEqual(centre(), [103.0, 53.0])
        # The pictures are shifted, and what was done to them goes with them.
        self.client.post(self.url("plate/shift"), {"first": "1", "what": "pictures"})
        self.assertEqual(centre(), [103.0, 53.0])
        step = self.shot_now().state["gate"]["steps"][0]
        page = self.client.get(self.url("gate") + f"?edit={step['id']}")
        self.assertContains(page, "11 12 -1 0.5 1.02")
        self.assertContains(page, "on this frame")


class LinedUp(Filmed):
    def test_another_frame_is_looked_at(self):
        self.bring("walk.1001.png", "copy", "day1")
        where = {"x": "100", "y": "10"}
        for number in (1001, 1007):
            says = self.client.get(self.url("line-up/values"), where | {"at": str(number)}).content
            level = int(numbered(number)[10, 100, 0])
            light = ((level / 255 + 0.055) / 1.055) ** 2.4  # IEC 61966-2-1
            self.assertIn(f"plate {light:.3f}", says.decode())
        self.client.post(self.url("line-up/keep"), {"kind": "plate", "at": "1007"})
        kept = cv2.imread(str(Snapshot.objects.get().file))
        self.assertEqual(number_in(kept), 1007)

    def test_frames_that_are_counted_in_another_way(self):
        self.bring("walk.1001.png", "copy", "day1")
        row = Returned.objects.create(
            shot=self.shot, name="crate.####.exr", digest="x", frames=list(range(12))
        )
        page = self.client.get(self.url("line-up"), {"returned": row.pk})
        self.assertContains(page, "Its frames are 0–11, the shot’s 1001–1012")
        remedy = next(
            fields
            for remark in page.context["remarks"]
            for label, fields in remark.remedies
            if label == "Its first frame is 1001"
        )
        self.client.post(remedy["action"], remedy["fields"])
        page = self.client.get(self.url("line-up"), {"returned": row.pk})
        self.assertNotContains(page, "counted in another way")
        self.assertEqual(
            (page.context["page"]["frames"][0], page.context["page"]["shift"]), (1001, 1001)
        )
        # From now on it goes with the shot.
        self.client.post(self.url("plate/shift"), {"first": "1", "what": "shot"})
        row.refresh_from_db()
        self.assertEqual(frames_now(self.shot_now().state, row)[0], 1)
        answer = self.client.post(
            self.url("line-up/keep"), {"kind": "over", "returned": row.pk, "frame": "40"}
        )
        self.assertContains(answer, "The render has no frame 41", status_code=422)

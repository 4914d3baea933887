"""A cut against OpenTimelineIO's own library and EDL adapter, and SMPTE's time code."""

from dataclasses import replace
from fractions import Fraction
from functools import partial
from unittest import TestCase

import cv2
import numpy as np
import opentimelineio as otio
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.camera import CameraPath
from aperture.cut.between import between
from aperture.cut.cut import BETWEEN, Clip, Cut
from aperture.errors import Problem
from aperture.formats import cut_files
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.moves.arrows import arrows
from aperture.timecode import format_timecode, parse_timecode
from tests.chessboard import FOLDER

CUT = Cut(
    (
        Clip("a", "LT010", 1, 48),
        Clip("b", "LT070", 1010, 1057, 1001, 1100),
        Clip("c", "LT080", 5, 100, 1, 104),
        Clip("d", "LT070", 1058, 1069, 1001, 1100),
    ),
    Fraction(24),
    86_400,
)


class Files(TestCase):
    def test_their_library_reads_the_same_cut(self):
        """Order, source ranges, what is available, and where each clip begins, by
        OpenTimelineIO."""
        for rate in (Fraction(24), Fraction(24000, 1001)):
            own = replace(CUT, rate=rate)
            timeline = otio.adapters.read_from_string(
                cut_files.write(own, "otio", "Tide"), "otio_json"
            )
            (track,) = timeline.tracks
            self.assertEqual([clip.name for clip in track], [clip.shot for clip in own.clips])
            for clip, kept, begin in zip(track, own.clips, own.begins):
                self.assertEqual(clip.source_range.start_time.value, kept.first)
                self.assertEqual(clip.source_range.duration.value, kept.length)
                at = track.range_of_child(clip).start_time
                self.assertAlmostEqual(at.value, begin)
                self.assertAlmostEqual(at.rate, float(rate))
                if kept.handles:
                    available = clip.available_range()
                    before = clip.source_range.start_time - available.start_time
                    self.assertEqual(before.value, kept.handles[0])
            found, start = cut_files.read(
                cut_files.write(own, "otio", "Tide").encode(), "otio", rate
            )
            self.assertEqual(start, own.start)
            self.assertEqual(
                [(one.name, one.first, one.last) for one in found],
                [(clip.shot, clip.first, clip.last) for clip in own.clips],
            )

    def test_an_edl(self):
        """CMX 3600: record time code goes on without a gap from 01:00:00:00; by its adapter, and by
        its columns."""
        text = cut_files.write(CUT, "edl", "Tide")
        events = [line.split() for line in text.splitlines() if line[:3].isdigit()]
        self.assertEqual(len(events), len(CUT.clips))
        for event, clip, begin in zip(events, CUT.clips, CUT.begins):
            source_in, source_out, record_in, record_out = event[-4:]
            at = CUT.start + begin
            self.assertEqual(source_in, format_timecode(clip.first, CUT.rate))
            self.assertEqual(source_out, format_timecode(clip.last + 1, CUT.rate))
            self.assertEqual(record_in, format_timecode(at, CUT.rate))
            self.assertEqual(record_out, format_timecode(at + clip.length, CUT.rate))
        found, start = cut_files.read(text.encode(), "edl", CUT.rate)
        self.assertEqual(start, CUT.start)
        self.assertEqual(
            [(one.name, one.first, one.last) for one in found],
            [(clip.shot, clip.first, clip.last) for clip in CUT.clips],
        )

    def test_an_edl_s_fades_and_what_lies_over(self):
        """Each event shows what the cut shows on top there; a fade is a dissolve with the reel BL
        (CMX 3600, common practice)."""
        clips = list(CUT.clips)
        clips[1] = replace(clips[1], fade_in=8, fade_out=6)
        clips[3] = replace(clips[3], fade_in=4)
        for over in (
            10,
            40,
            90,
        ):  # inside a clip, over the border of two, and where nothing is cut short
            laid = Clip("o", "LT020", 5, 24, over=over)
            own = replace(CUT, clips=(*clips, laid))
            text = cut_files.write(own, "edl", "Tide")
            events = [line.split() for line in text.splitlines() if line[:3].isdigit()]
            shown = {}
            for event in events:
                first, last = (parse_timecode(one, own.rate) - own.start for one in event[-2:])
                shown |= dict.fromkeys(range(first, last), event[1])
            self.assertEqual(sorted(shown), list(range(own.length)))
            fading = {frame for frame in shown if shown[frame] == "BL"}
            self.assertLessEqual(len(fading), clips[1].fade_out)
            for frame in set(shown) - fading:
                self.assertEqual(shown[frame], own.clips[own.layers(frame)[-1].index].shot)
            found, _ = cut_files.read(text.encode(), "edl", own.rate)
            flat = own.flattened()
            self.assertEqual(flat.length, own.length)
            kept = [
                (one.shot, one.first, one.last, one.fade_in, one.fade_out) for one in flat.clips
            ]
            self.assertEqual(
                [(one.name, one.first, one.last, one.fade_in, one.fade_out) for one in found], kept
            )
            timeline = cut_files.write(own, "otio", "Tide").encode()
            self.assertEqual(cut_files.read(timeline, "otio", own.rate)[0][-1].over, over)

    def test_odd_files(self):
        for data, kind, says in (
            (b"", "otio", "can’t be read"),
            (b"{}", "otio", "can’t be read"),
            (b"\xff\xfe", "edl", "can’t be read"),
            (b"TITLE: x\n", "edl", "can’t be read|no clip"),
            (cut_files.write(CUT, "otio", "x").encode()[:300], "otio", "can’t be read"),
        ):
            with self.assertRaisesRegex(Problem, says):
                cut_files.read(data, kind, Fraction(24))
        with self.assertRaisesRegex(Problem, "24 frames a second, and the show 25"):
            cut_files.read(cut_files.write(CUT, "otio", "x").encode(), "otio", Fraction(25))
        with self.assertRaisesRegex(Problem, "written as one of"):
            cut_files.write(CUT, "avi", "x")

    @settings(max_examples=60, deadline=None)
    @given(st.binary(max_size=300), st.sampled_from(["otio", "edl"]))
    def test_any_bytes_give_a_sentence(self, data, kind):
        try:
            cut_files.read(data, kind, Fraction(24))
        except Problem:
            pass


class Changes(TestCase):
    def test_verbs(self):
        self.assertEqual([clip.id for clip in CUT.moved("d", 0).clips], list("dabc"))
        self.assertEqual([clip.id for clip in CUT.moved("a", 99).clips], list("bcda"))
        later = CUT.trimmed("b", first_by=5)
        self.assertEqual((later.clips[1].first, later.length), (1015, CUT.length - 5))
        slipped = CUT.slipped("b", -9)
        self.assertEqual((slipped.clips[1].first, slipped.length), (1001, CUT.length))
        split = CUT.split("c", 50, "e")
        self.assertEqual(
            [(clip.first, clip.last) for clip in split.clips[2:4]], [(5, 49), (50, 100)]
        )
        self.assertEqual(split.length, CUT.length)
        self.assertEqual(len(CUT.doubled("a", "e").clips), 5)
        self.assertEqual([clip.id for clip in CUT.without("b").clips], list("acd"))
        self.assertEqual(CUT.trimmed("a", last_by=500).clips[0].length, 548)  # a photograph is held
        for wrong, says in (
            (lambda: CUT.slipped("b", -10), "no frame before 1001"),
            (lambda: CUT.trimmed("c", last_by=5), "no frame after 104"),
            (lambda: CUT.trimmed("a", first_by=48), "no frame left"),
            (lambda: CUT.split("c", 5, "e"), "between two"),
            (lambda: CUT.moved("z", 0), "gone"),
            (lambda: CUT.at(CUT.length), "no such frame"),
            (lambda: CUT.trimmed("a", last_by=10**8), "at most"),
        ):
            with self.assertRaisesRegex(Problem, says):
                wrong()

    @settings(max_examples=80, deadline=None)
    @given(st.integers(0, CUT.length - 1))
    def test_every_frame_is_in_one_clip(self, frame):
        index, own = CUT.at(frame)
        clip = CUT.clips[index]
        self.assertEqual(CUT.begins[index] + own - clip.first, frame)
        self.assertTrue(clip.first <= own <= clip.last)


class Retimed(TestCase):
    """Slow motion, fades and dissolves: their arithmetic, OpenTimelineIO's reading of them, real
    pictures in between."""

    @given(st.floats(0.05, 8), st.integers(2, 200))
    def test_a_constant_speed(self, speed, count):
        """n frames at a speed v last n / v; frame k of the cut shows k v frames into the shot
        (common practice, no source)."""
        clip = Clip("a", "LT070", 1001, 1000 + count, 1001, 1000 + count, ((1001, speed),))
        self.assertEqual(clip.length, max(1, round(count / speed)))
        for frame in range(0, clip.length, 7):
            self.assertAlmostEqual(
                clip.source(frame), min(1001 + frame * speed, 1000 + count), places=6
            )

    def test_a_curve_goes_through_every_frame_once(self):
        """From full speed to a quarter and back: it never goes backward, and lasts the sum of its
        frames' times."""
        clip = Clip("a", "LT070", 1, 60, 1, 60, ((1, 1.0), (30, 0.25), (60, 1.0)))
        at = [clip.source(frame) for frame in range(clip.length)]
        self.assertTrue(all(one < two for one, two in zip(at, at[1:])))
        self.assertLess(at[-1] - 60, 1)
        slow = at.index(min(at, key=lambda value: abs(value - 30)))
        self.assertAlmostEqual(at[slow + 1] - at[slow], 0.25, delta=0.03)

    def test_layers_add_up(self):
        cut = CUT.faded("a", 4, 0, 6)
        for frame in range(cut.length):
            layers = cut.layers(frame)
            whole = sum(one.weight for one in layers)
            self.assertTrue(0 < whole <= 1 + 1e-9)
            if frame >= 4:
                self.assertAlmostEqual(whole, 1)
        self.assertAlmostEqual(cut.layers(0)[0].weight, 0.2)
        over = [cut.layers(frame) for frame in range(45, 51)]  # three before its end, three after
        self.assertTrue(all(len(one) == 2 for one in over))
        np.testing.assert_allclose([one[1].weight for one in over], np.arange(1, 7) / 7)
        self.assertEqual([one[1].frame for one in over], [1007, 1008, 1009, 1010, 1011, 1012])
        for id_, told, says in (
            ("d", (0, 0, 4), "nothing to dissolve"),
            ("d", (9, 9, 0), "longer"),
            ("c", (0, 0, 20), "longer"),
            ("b", (0, 0, 12), "5 needs|needs"),
        ):
            with self.assertRaisesRegex(Problem, says):
                CUT.faded(id_, *told)
        for speeds in (((1, 0.0),), ((1, 99.0),), ((5, 1.0), (5, 2.0))):
            with self.assertRaises(Problem):
                CUT.retimed("a", speeds, "repeat")

    def test_a_clip_over_a_jump(self):
        """The row closes up behind it; on its frames it is seen alone, or by its fade;
        OpenTimelineIO has it on a track of its own."""
        cut = CUT.laid_over("d", 40).faded("d", 2, 0, 0)
        self.assertEqual(cut.length, CUT.length - 12)
        self.assertEqual(cut.begins, [0, 48, 96, 40])
        self.assertEqual(cut.at(45), (3, 1063))
        [below, above] = cut.layers(40)
        self.assertEqual(
            (below.index, above.index, round(above.weight, 6)), (0, 3, round(1 / 3, 6))
        )
        self.assertAlmostEqual(below.weight + above.weight, 1)
        self.assertEqual([one.index for one in cut.layers(45)], [3])
        self.assertEqual([one.index for one in cut.layers(52)], [1])
        low, high = otio.adapters.read_from_string(
            cut_files.write(cut, "otio", "T"), "otio_json"
        ).tracks
        self.assertEqual((len(low), high[0].duration().value, high[1].name), (3, 40, "LT070"))
        self.assertEqual(cut.laid_over("d", None).length, CUT.length)
        for frame in (-4, 500):
            with self.assertRaises(Problem):
                CUT.laid_over("d", frame)

    def test_there_and_back_through_opentimelineio(self):
        made = CUT.retimed("b", [(1010, 0.5)], "flow").faded("a", 3, 5, 6)
        made = made.retimed("c", [(5, 1.0), (60, 0.5)], "repeat")
        text = cut_files.write(made, "otio", "Tide")
        (track,) = otio.adapters.read_from_string(text, "otio_json").tracks
        self.assertEqual(round(track.duration().value), made.length)
        self.assertEqual(track[2].effects[0].time_scalar, 0.5)
        self.assertEqual((track[1].in_offset.value, track[1].out_offset.value), (3, 3))
        found, _ = cut_files.read(text.encode(), "otio", Fraction(24))
        self.assertEqual(
            [(one.first, one.last) for one in found], [(one.first, one.last) for one in made.clips]
        )
        self.assertEqual([one.speeds for one in found], [one.speeds for one in made.clips])
        self.assertEqual((found[0].fade_in, found[0].fade_out, found[0].dissolve), (3, 5, 6))
        faded = CUT.faded("a", 0, 0, 8)
        found, _ = cut_files.read(cut_files.write(faded, "edl", "T").encode(), "edl", Fraction(24))
        self.assertEqual(
            [(one.first, one.last, one.dissolve) for one in found],
            [(one.first, one.last, one.dissolve) for one in faded.clips],
        )
        edl = cut_files.write(CUT.retimed("b", [(1010, 0.5)], "flow"), "edl", "Tide")
        self.assertIn("M2", edl)  # CMX 3600's line for another speed

    def test_fades_of_another_s_file(self):
        """A clip with fades shows what OpenTimelineIO says is visible of it, wherever the cut lies
        in them."""
        time = otio.opentime.RationalTime
        for before, after in ((0, 12), (12, 0), (5, 7)):
            fade = partial(
                otio.schema.Transition, "f", "SMPTE_Dissolve", time(before, 24), time(after, 24)
            )
            span = otio.opentime.TimeRange(time(1010, 24), time(36, 24))
            media = otio.schema.MissingReference(
                "", otio.opentime.TimeRange(time(1001, 24), time(99, 24))
            )
            clip = otio.schema.Clip("LT070", media, span)
            gap = otio.schema.Gap(duration=time(24, 24))
            track = otio.schema.Track("V", children=[gap, fade(), clip, fade()], kind="Video")
            timeline = otio.schema.Timeline("Tide")
            timeline.tracks.append(track)
            text = otio.adapters.write_to_string(timeline, "otio_json")
            [found], _ = cut_files.read(text.encode(), "otio", Fraction(24))
            seen = clip.visible_range()
            wanted = (seen.start_time.value, seen.end_time_inclusive().value, 12, 12)
            self.assertEqual((found.first, found.last, found.fade_in, found.fade_out), wanted)

    def test_between_two_frames_of_a_real_film(self):
        """Every other frame of OpenCV's megamind film left out and estimated: motion is nearer to
        the truth than a blend or the nearest."""
        film, frames = cv2.VideoCapture(str(FOLDER / "Megamind.avi")), []
        for _ in range(60):
            frames.append(film.read()[1].astype(np.float32) / 255)
        off = {way: [] for way in BETWEEN}
        for first in range(20, 50, 6):
            if np.abs(frames[first] - frames[first + 2]).mean() > 0.15:
                continue  # a cut
            for way, errors in off.items():
                made = between(frames[first], frames[first + 2], 0.5, way)
                errors.append(float(np.abs(made - frames[first + 1]).mean()))
        mean = {way: np.mean(errors) for way, errors in off.items()}
        self.assertLess(mean["flow"], mean["blend"])
        self.assertLess(mean["blend"], mean["repeat"])


class Moves(TestCase):
    def test_arrows_say_what_the_camera_did(self):
        """A path made of known moves; the words and ways are the trade's (common practice, no
        source)."""
        grid = Grid.from_gate(1920, 1080, 36, 20.25)

        def path(end, pan=0.0, tilt=0.0, focal=35.0):
            turns = np.stack(
                [rotation_from_angles(0.4, 0.1, 0), rotation_from_angles(0.4 + pan, 0.1 + tilt, 0)]
            )
            places = np.stack([np.zeros(3), turns[0] @ end])
            return CameraPath(
                grid, Lens(35.0), np.array([1, 48]), turns, places, np.array([35.0, focal])
            )

        for made, says, way in (
            (path([0, 0, -2.0]), "2.0 m forward", (1, -1)),
            (path([0, 0, 2.0]), "2.0 m back", (-1, 1)),
            (path([1.5, 0, 0]), "1.5 m to the right", (1, 0)),
            (path([0, -0.4, 0]), "0.4 m down", (0, 1)),
            (path([0, 0, 0], pan=np.radians(30)), "pans 30° to the left", (-1, 0)),
            (path([0, 0, 0], tilt=np.radians(10)), "tilts 10° up", (0, -1)),
            (path([0, 0, 0], focal=70.0), "35 → 70 mm", (-1, -1)),
        ):
            with self.subTest(says=says):
                [one] = arrows(made)
                self.assertEqual(one.says, says)
                drawn = np.sign(np.round(np.subtract(one.end, one.begin), 6))
                self.assertEqual(tuple(drawn), way)
        self.assertEqual(arrows(path([0.01, 0, 0])), [])

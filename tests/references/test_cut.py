"""A cut against OpenTimelineIO's own library and EDL adapter, and SMPTE's time code."""

from dataclasses import replace
from fractions import Fraction
from unittest import TestCase

import opentimelineio as otio
from hypothesis import given, settings
from hypothesis import strategies as st

from aperture.cut.cut import Clip, Cut
from aperture.errors import Problem
from aperture.formats import cut_files
from aperture.timecode import format_timecode

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
        """Order, source ranges, what is available, and where each clip begins, by OpenTimelineIO."""
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
        """CMX 3600: record time code goes on without a gap from 01:00:00:00; by its adapter, and by its columns."""
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

"""A cut: clips of shots one after the other, each with its first and last frame.

Frames of a clip are the shot's own; frames of the cut count from 0, and from its start time code
where they are written. A clip may be trimmed as far as its shot has frames (its *handles* are what
is left over on either side); a photograph has one picture, which can be held for any length.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

MOST_CLIPS, MOST_FRAMES = 2000, 10_000_000
SLOWEST, FASTEST, MOST_SPEEDS = 0.02, 50.0, 200
# What is shown between two frames of a shot.
BETWEEN = {
    "repeat": "the nearest frame",
    "blend": "both, blended",
    "flow": "in between, by the motion of both",
}
MOST_TITLE = 120


@dataclass(frozen=True)
class Clip:
    """A piece of a shot.

    Parameters
    ----------
    id : str
    shot : str
        Its code.
    first, last : int
        The shot's frames, both included.
    least, most : int or None
        What the shot has; None of a photograph, which is held as long as is wanted.
    speeds : tuple of (int, float)
        How fast the shot goes at some of its frames, in their order: 1 as it was filmed, 0.5 half
        as fast; linear between two of them, and as at the ends beyond. Empty: 1.
    between : str
        A key of BETWEEN.
    fade_in, fade_out : int
        Frames of the cut over which it comes from black, and goes to black.
    dissolve : int
        Frames of the cut, half of them on either side of its end, over which the next clip comes
        through it.
    camera : str
        Of a shot's cameras the id of the one that it is seen through; empty: the matched one.
    over : int or None
        The frame of the cut from which it lies over the others, as to hide a jump; None: it has its
        place in the row.
    """

    id: str
    shot: str
    first: int
    last: int
    least: int | None = None
    most: int | None = None
    speeds: tuple[tuple[int, float], ...] = ()
    between: str = "repeat"
    fade_in: int = 0
    fade_out: int = 0
    dissolve: int = 0
    over: int | None = None
    camera: str = ""

    def __post_init__(self) -> None:
        if self.over is not None and self.over < 0:
            raise Problem("A clip lies over the cut from one of its frames on.", "over")
        frames = [frame for frame, _ in self.speeds]
        if frames != sorted(set(frames)) or len(frames) > MOST_SPEEDS:
            raise Problem("Speeds stand at frames in their order, each once.", "speed")
        if not all(SLOWEST <= speed <= FASTEST for _, speed in self.speeds):
            says = f"A shot goes between {100 * SLOWEST:g} and {100 * FASTEST:,.0f} % of its speed."
            raise Problem(says, "speed")
        if self.between not in BETWEEN:
            raise Problem(
                f"Between two frames is shown {', or '.join(BETWEEN.values())}.", "between"
            )
        if min(self.fade_in, self.fade_out, self.dissolve) < 0:
            raise Problem("A fade has no frames below zero.", "fade")
        if self.last < self.first:
            raise Problem(f"{self.shot} would have no frame left: a clip has one at least.")
        if self.least is not None and self.first < self.least:
            raise Problem(f"{self.shot} has no frame before {self.least}.")
        if self.most is not None and self.last > self.most:
            raise Problem(f"{self.shot} has no frame after {self.most}.")

    @property
    def length(self) -> int:
        """In frames of the cut."""
        if not self.speeds:
            return self.last - self.first + 1
        return max(1, round(float(self._times[-1])))

    @cached_property
    def _times(self) -> Array:
        """(n + 1,) the moment of the cut, from its beginning, at which each of the shot's frames
        begins; the last one's end."""
        frames = np.arange(self.first, self.last + 1)
        at, speeds = zip(*self.speeds)
        return np.concatenate([[0.0], np.cumsum(1 / np.interp(frames, at, speeds))])

    def source(self, frame: float) -> float:
        """The shot's frame, or the place between two, of a frame of the clip; before its beginning
        and after its end it goes on as fast as there. Within what the shot has.
        """
        if not self.speeds:
            at = self.first + frame
        else:
            times, count = self._times, self.last - self.first + 1
            at = self.first + float(np.interp(frame, times, np.arange(count + 1)))
            if frame < 0:
                at = self.first + frame * self.speed_at(self.first)
            elif frame > times[-1]:
                at = self.last + 1 + (frame - float(times[-1])) * self.speed_at(self.last)
        if self.least is not None and self.most is not None:
            at = min(max(at, self.least), self.most)
        return at

    def moment(self, frame: float) -> float:
        """What is shown on a frame of the clip: as `source` has it; a whole one where the nearest
        frame is shown."""
        at = self.source(frame)
        return math.floor(at + 0.5) if self.speeds and self.between == "repeat" else at

    def place(self, at: float) -> float:
        """The frame of the clip, or the place between two, that shows one of the shot's: the way
        back from `source`."""
        if not self.speeds:
            return at - self.first
        times, count = self._times, self.last - self.first + 1
        if at < self.first:
            return (at - self.first) / self.speed_at(self.first)
        if at > self.first + count:
            return float(times[-1]) + (at - self.first - count) / self.speed_at(self.last)
        return float(np.interp(at - self.first, np.arange(count + 1), times))

    def speed_at(self, frame: float) -> float:
        """How fast the shot goes at one of its frames, or between two."""
        if not self.speeds:
            return 1.0
        at, speeds = zip(*self.speeds)
        return float(np.interp(frame, at, speeds))

    @property
    def handles(self) -> tuple[int, int] | None:
        """Frames that are left before and after; None of a photograph."""
        if self.least is None or self.most is None:
            return None
        return self.first - self.least, self.most - self.last


@dataclass(frozen=True)
class Cut:
    """Clips in their order.

    Parameters
    ----------
    clips : tuple of Clip
    rate : Fraction
        Frames a second.
    start : int
        The frame that its time code begins with, counted from 00:00:00:00.
    title, title_frames : str, int
        What stands over its first frames, and over how many.
    counter : bool
        Whether its time code stands in the picture.

    Raises
    ------
    Problem
        If there are too many clips or frames, or an id comes twice.

    Examples
    --------
    >>> harbour, slipway = Clip("a", "LT010", 1, 48), Clip("b", "LT070", 1001, 1012, 1001, 1024)
    >>> cut = Cut((harbour, slipway), Fraction(24))
    >>> cut.begins, cut.length
    ([0, 48], 60)
    >>> cut.at(50)
    (1, 1003)
    >>> cut.trimmed("b", last_by=4).length
    64
    """

    clips: tuple[Clip, ...]
    rate: Fraction
    start: int = 0
    title: str = ""
    title_frames: int = 0
    counter: bool = False

    def __post_init__(self) -> None:
        if len(self.title) > MOST_TITLE or any(ord(one) < 32 for one in self.title):
            raise Problem(f"A title is one line of {MOST_TITLE} characters at most.", "title")
        if self.title_frames < 0:
            raise Problem("A title stands over no frames below zero.", "title")
        if len(self.clips) > MOST_CLIPS or self.length > MOST_FRAMES:
            raise Problem(f"A cut has {MOST_CLIPS} clips and {MOST_FRAMES:,} frames at most.")
        if len({clip.id for clip in self.clips}) < len(self.clips):
            raise Problem("A clip stands in the cut twice.")

    @property
    def row(self) -> list[int]:
        """The indices of the clips that come one after the other; the others lie over these."""
        return [index for index, clip in enumerate(self.clips) if clip.over is None]

    @property
    def length(self) -> int:
        """In frames."""
        return sum(clip.length for clip in self.clips if clip.over is None)

    @property
    def begins(self) -> list[int]:
        """The frame of the cut that each clip begins with."""
        out, at = [], 0
        for clip in self.clips:
            out.append(at if clip.over is None else clip.over)
            at += clip.length if clip.over is None else 0
        return out

    def at(self, frame: int) -> tuple[int, int]:
        """(index of the clip, the shot's frame) of a frame of the cut. Raises Problem beyond its
        ends."""
        index, begin = self._clip_at(frame)
        return index, int(self.clips[index].moment(frame - begin))

    def _clip_at(self, frame: int) -> tuple[int, int]:
        """(index, its begin) of the clip that is on top."""
        laid = self._laid_at(frame)
        return laid if laid is not None and frame < self.length else self._in_row(frame)

    def _laid_at(self, frame: int) -> tuple[int, int] | None:
        for index, clip in reversed(list(enumerate(self.clips))):
            if clip.over is not None and clip.over <= frame < clip.over + clip.length:
                return index, clip.over
        return None

    def _in_row(self, frame: int) -> tuple[int, int]:
        begins = self.begins
        if frame >= 0:
            for index in self.row:
                if frame < begins[index] + self.clips[index].length:
                    return index, begins[index]
        raise Problem("The cut has no such frame.")

    def layers(self, frame: int) -> list[Layer]:
        """What is seen on a frame of the cut, from below; what weights leave of one is black.
        Raises Problem beyond its ends."""
        layers, laid = self._row_layers(frame), self._laid_at(frame)
        if laid is None:
            return layers
        index, begin = laid
        clip, own = self.clips[index], frame - begin
        weight = _faded(clip, own)
        below = [replace(one, weight=one.weight * (1 - weight)) for one in layers if weight < 1]
        return [*below, Layer(index, clip.moment(own), weight)]

    def _row_layers(self, frame: int) -> list[Layer]:
        index, begin = self._in_row(frame)
        clip, own = self.clips[index], frame - begin
        left = clip.length - own  # frames from here to its end, this one included
        layers = [Layer(index, clip.moment(own), _faded(clip, own))]
        row = self.row
        place = row.index(index)
        if place and (before := self.clips[row[place - 1]]).dissolve:
            first = before.dissolve // 2
            if own < before.dissolve - first:
                share = (first + own + 1) / (before.dissolve + 1)
                back = Layer(row[place - 1], before.moment(before.length + own), 1 - share)
                layers = [back, Layer(index, clip.moment(own), share)]
        if clip.dissolve and place + 1 < len(row) and left <= clip.dissolve // 2:
            share = (clip.dissolve // 2 - left + 1) / (clip.dissolve + 1)
            following = row[place + 1]
            coming = Layer(following, self.clips[following].moment(-left), share)
            layers = [Layer(index, clip.moment(own), 1 - share), coming]
        return layers

    def index(self, id_: str) -> int:
        """Where a clip is. Raises Problem where it is gone."""
        for index, clip in enumerate(self.clips):
            if clip.id == id_:
                return index
        raise Problem("That clip is gone from the cut.")

    def moved(self, id_: str, to: int) -> Cut:
        """With a clip taken out, and put in again before the `to`-th of the others."""
        index = self.index(id_)
        rest = self.clips[:index] + self.clips[index + 1 :]
        to = max(0, min(len(rest), to))
        return replace(self, clips=rest[:to] + (self.clips[index],) + rest[to:])

    def trimmed(self, id_: str, first_by: int = 0, last_by: int = 0) -> Cut:
        """With a clip that begins or ends some frames later; what follows moves along."""
        return self._with(
            id_, lambda clip: replace(clip, first=clip.first + first_by, last=clip.last + last_by)
        )

    def retimed(self, id_: str, speeds: Sequence[tuple[int, float]], between: str) -> Cut:
        """With a clip that goes at other speeds; what follows moves along."""
        return self._with(id_, lambda clip: replace(clip, speeds=tuple(speeds), between=between))

    def faded(self, id_: str, fade_in: int, fade_out: int, dissolve: int) -> Cut:
        """With a clip that fades, or into which the next one dissolves. Raises Problem where frames
        are missing for it."""
        index = self.index(id_)
        clip = self.clips[index]
        if fade_in + fade_out > clip.length:
            raise Problem(f"{clip.shot} has {clip.length} frames: its fades are longer.", "fade")
        later = [other for other in self.row if other > index]
        if dissolve and (clip.over is not None or not later):
            raise Problem("After this clip there is nothing to dissolve into.", "dissolve")
        if dissolve:
            following = self.clips[later[0]]
            after, before = dissolve - dissolve // 2, dissolve // 2
            if dissolve > min(clip.length, following.length):
                raise Problem("The dissolve is longer than one of its clips.", "dissolve")
            _require_handle(clip, 1, after)
            _require_handle(following, 0, before)
        return self._with(
            id_,
            lambda one: replace(one, fade_in=fade_in, fade_out=fade_out, dissolve=dissolve),
        )

    def through(self, id_: str, camera: str) -> Cut:
        """With a clip that is seen through another camera of its shot."""
        return self._with(id_, lambda clip: replace(clip, camera=camera))

    def laid_over(self, id_: str, frame: int | None) -> Cut:
        """With a clip that lies over the others from a frame of the cut on, or has its place in the
        row again."""
        if frame is not None and len(self.row) == 1 and self.clips[self.index(id_)].over is None:
            raise Problem("The only clip of the row has nothing to lie over.", "over")
        made = self._with(id_, lambda clip: replace(clip, over=frame, dissolve=0))
        if frame is not None and frame >= made.length:
            raise Problem(
                f"The cut has {made.length} frames: the clip would lie behind its end.", "over"
            )
        return made

    def flattened(self) -> Cut:
        """With the same pictures in one row: where a clip lies over others, they are cut short and
        go on behind it."""
        if len(self.row) == len(self.clips):
            return self
        ends = [begin + clip.length for begin, clip in zip(self.begins, self.clips)]
        edges = sorted({0, self.length, *(at for at in (*self.begins, *ends) if at < self.length)})
        pieces: list[Clip] = []
        for begin, end in zip(edges, edges[1:]):
            index, start = self._clip_at(begin)
            piece = self._piece(index, begin - start, end - start)
            pieces.append(replace(piece, id=f"p{len(pieces)}"))
        return replace(self, clips=tuple(pieces))

    def _piece(self, index: int, begin: int, end: int) -> Clip:
        """From one of a clip's own frames up to another one, with the fades and the dissolve that
        fall there."""
        clip = self.clips[index]
        first = int(clip.source(begin))
        last = (
            max(first, math.ceil(clip.source(end) - 1e-9) - 1) if end < clip.length else clip.last
        )
        whole_end = end == clip.length
        return replace(
            clip,
            first=first,
            last=last,
            over=None,
            fade_in=clip.fade_in if begin == 0 and clip.fade_in <= end else 0,
            fade_out=clip.fade_out if whole_end and clip.fade_out <= end - begin else 0,
            dissolve=(
                clip.dissolve if whole_end and not self._laid_at(self.begins[index] + end) else 0
            ),
        )

    def slipped(self, id_: str, by: int) -> Cut:
        """With a clip of the same length that shows its shot so many frames later."""
        return self.trimmed(id_, by, by)

    def split(self, id_: str, frame: int, new_id: str) -> Cut:
        """With a clip in two: the second begins with a frame of its shot."""
        index = self.index(id_)
        clip = self.clips[index]
        if not clip.first < frame <= clip.last:
            raise Problem("A clip is split between two of its frames: go to one inside it first.")
        parts = (replace(clip, last=frame - 1), replace(clip, id=new_id, first=frame))
        return replace(self, clips=self.clips[:index] + parts + self.clips[index + 1 :])

    def doubled(self, id_: str, new_id: str) -> Cut:
        """With a clip once more, after itself."""
        index = self.index(id_)
        again = replace(self.clips[index], id=new_id)
        return replace(self, clips=self.clips[: index + 1] + (again,) + self.clips[index + 1 :])

    def without(self, id_: str) -> Cut:
        """Without a clip."""
        index = self.index(id_)
        return replace(self, clips=self.clips[:index] + self.clips[index + 1 :])

    def _with(self, id_: str, change: object) -> Cut:
        index = self.index(id_)
        made = change(self.clips[index])  # type: ignore[operator]
        return replace(self, clips=self.clips[:index] + (made,) + self.clips[index + 1 :])


@dataclass(frozen=True)
class Layer:
    """A clip's picture on a frame of the cut: of the `index`-th clip, at its shot's `frame`, by
    `weight`."""

    index: int
    frame: float
    weight: float


def _faded(clip: Clip, own: int) -> float:
    """What a clip's fades leave of it on one of its frames."""
    left, weight = clip.length - own, 1.0
    if own < clip.fade_in:
        weight = (own + 1) / (clip.fade_in + 1)
    if left <= clip.fade_out:
        weight = min(weight, left / (clip.fade_out + 1))
    return weight


def _require_handle(clip: Clip, side: int, wanted: int) -> None:
    """Raise Problem where a shot has too few frames before (0) or after (1) its clip."""
    handles = clip.handles
    if handles is None:
        return
    needed = math.ceil(wanted * clip.speed_at(clip.last if side else clip.first))
    if handles[side] < needed:
        where = "after" if side else "before"
        raise Problem(
            f"{clip.shot} has {handles[side]} frames {where} its clip, and the dissolve needs"
            f" {needed}: trim it first.",
            "dissolve",
        )


def free_ids(clips: Sequence[Clip]) -> Iterator[str]:
    """Ids that no clip has."""
    taken, number = {clip.id for clip in clips}, 1
    while True:
        if f"k{number}" not in taken:
            yield f"k{number}"
        number += 1

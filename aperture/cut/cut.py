"""A cut: clips of shots one after the other, each with its first and last frame.

Frames of a clip are the shot's own; frames of the cut count from 0, and from its start time code
where they are written. A clip may be trimmed as far as its shot has frames (its *handles* are what
is left over on either side); a photograph has one picture, which can be held for any length.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from aperture.errors import Problem

MOST_CLIPS, MOST_FRAMES = 2000, 10_000_000


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
    """

    id: str
    shot: str
    first: int
    last: int
    least: int | None = None
    most: int | None = None

    def __post_init__(self) -> None:
        if self.last < self.first:
            raise Problem(f"{self.shot} would have no frame left: a clip has one at least.")
        if self.least is not None and self.first < self.least:
            raise Problem(f"{self.shot} has no frame before {self.least}.")
        if self.most is not None and self.last > self.most:
            raise Problem(f"{self.shot} has no frame after {self.most}.")

    @property
    def length(self) -> int:
        """In frames."""
        return self.last - self.first + 1

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

    Raises
    ------
    Problem
        If there are too many clips or frames, or an id comes twice.

    Examples
    --------
    >>> cut = Cut((Clip("a", "LT010", 1, 48), Clip("b", "LT070", 1001, 1012, 1001, 1024)), Fraction(24))
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

    def __post_init__(self) -> None:
        if len(self.clips) > MOST_CLIPS or self.length > MOST_FRAMES:
            raise Problem(f"A cut has {MOST_CLIPS} clips and {MOST_FRAMES:,} frames at most.")
        if len({clip.id for clip in self.clips}) < len(self.clips):
            raise Problem("A clip stands in the cut twice.")

    @property
    def length(self) -> int:
        """In frames."""
        return sum(clip.length for clip in self.clips)

    @property
    def begins(self) -> list[int]:
        """The frame of the cut that each clip begins with."""
        out, at = [], 0
        for clip in self.clips:
            out.append(at)
            at += clip.length
        return out

    def at(self, frame: int) -> tuple[int, int]:
        """(index of the clip, the shot's frame) of a frame of the cut. Raises Problem beyond its ends."""
        if frame >= 0:
            for index, (begin, clip) in enumerate(zip(self.begins, self.clips)):
                if frame < begin + clip.length:
                    return index, clip.first + frame - begin
        raise Problem("The cut has no such frame.")

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


def free_ids(clips: Sequence[Clip]) -> Iterator[str]:
    """Ids that no clip has."""
    taken, number = {clip.id for clip in clips}, 1
    while True:
        if f"k{number}" not in taken:
            yield f"k{number}"
        number += 1

"""What a file gives of moves, whatever its format, and how one of its cameras becomes a move."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from fractions import Fraction
from typing import Any, Protocol

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.axes import Z_UP_FROM_Y_UP, from_y_up
from aperture.moves.hierarchy import Baked, Node, bake, chain_of
from aperture.moves.move import MOST_FRAMES, NO_DISTORTION, Move
from aperture.units import METRES

UP_AXES = ("Y", "Z")
BY = ("frame", "time")
FITS = ("width", "height")
MOST_OFFSET = 10_000_000
MOST_PUPIL_MM = 2000


@dataclass(frozen=True, eq=False)
class Seen:
    """How a camera sees at T moments. The fields are those of `Move`; NaN where the file doesn't
    say.
    """

    half_view: Array
    focal_mm: Array
    shift: Array = field(default_factory=lambda: np.zeros(2))
    distortion: tuple[float, ...] = NO_DISTORTION

    @classmethod
    def unknown(cls, count: int) -> Seen:
        """Of a file that doesn't say."""
        return cls(np.full((count, 2), np.nan), np.full(count, np.nan))


class Source(Protocol):
    """A file with nodes, some of them cameras. Times are seconds of the file's own clock.

    names, parents : of every node; a root has no parent.
    cameras : indices of the nodes that are cameras.
    metres, up_axis : the file's unit and up axis; `declares`: those of "unit", "up_axis" and "rate"
    that the file says itself.
    rate : of the frames that the file counts, or has a key on; None where neither is known.
    span : first and last moment.
    first : the frame number of the first moment; None where the file counts none.
    notes : what else was done in reading it, in sentences.
    """

    names: list[str]
    parents: list[int | None]
    cameras: list[int]
    metres: float
    up_axis: str
    declares: frozenset[str]
    rate: Fraction | None
    span: tuple[float, float]
    first: int | None
    notes: tuple[str, ...]

    def local(self, node: int, seconds: Array) -> Array:
        """(T, 4, 4) parent from node."""

    def seen(self, node: int, seconds: Array) -> Seen:
        """How a camera sees."""


@dataclass(frozen=True)
class Settings:
    """How a file is understood. None: as the file says, or as is usual.

    camera, target : names of nodes; roll_deg : beside a target.
    unit, up_axis : instead of the file's. by : "frame", every frame of the file is one of the
    plate, whatever the rates; "time", the file is sampled at the plate's rate. offset : added to
    the frame numbers.
    fit : which side of the picture has the file's angle of view.
    rests : whether the camera rests before the move and after it, over the plate's frames.
    slip : by so many of its frames later the file is sampled, for a move that began between two
    pictures.
    pupil_mm : how far the lens's entrance pupil lies before the axis that the file's places are of.
    """

    camera: str | None = None
    target: str | None = None
    roll_deg: float = 0.0
    unit: str | None = None
    up_axis: str | None = None
    by: str = "frame"
    offset: int = 0
    fit: str = "width"
    slip: float = 0.0
    rests: bool = False
    pupil_mm: float = 0.0

    def __post_init__(self) -> None:
        for name, value, allowed in (
            ("unit", self.unit, (None, *METRES)),
            ("up_axis", self.up_axis, (None, *UP_AXES)),
            ("by", self.by, BY),
            ("fit", self.fit, FITS),
        ):
            if value not in allowed:
                raise Problem(f"“{value}” is not one of {', '.join(filter(None, allowed))}.", name)
        if abs(self.offset) > MOST_OFFSET:
            raise Problem("The frame offset is too large.", "offset")
        if not abs(self.roll_deg) <= 3600:
            raise Problem("The roll is an angle in degrees.", "roll_deg")
        if not abs(self.slip) < 1:
            raise Problem("The slip is less than a frame; the rest is the frame offset.", "slip")
        if not abs(self.pupil_mm) <= MOST_PUPIL_MM:
            raise Problem(
                f"The entrance pupil lies within {MOST_PUPIL_MM} mm of the axis.", "pupil_mm"
            )

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


@dataclass(frozen=True, eq=False)
class BroughtIn:
    """A move, and what its file said.

    rate : of the file. frames_in_file : how many it counts between its ends.
    declares : as `Source` has it, and "frames" where it counts them.
    """

    move: Move
    cameras: tuple[str, ...]
    nodes: tuple[str, ...]
    camera: str
    metres: float
    up_axis: str
    declares: frozenset[str]
    rate: Fraction | None
    frames_in_file: int
    done: tuple[str, ...]

    def says(self) -> dict[str, Any]:
        """All but the move, as plain values."""
        kept = {key: value for key, value in vars(self).items() if key != "move"}
        for key in ("cameras", "nodes", "done"):
            kept[key] = list(kept[key])
        rate = str(self.rate) if self.rate else None
        return kept | {"declares": sorted(self.declares), "rate": rate}

    @classmethod
    def of(cls, move: Move, says: dict[str, Any]) -> BroughtIn:
        """From what `says` gave."""
        kept = dict(says)
        for key in ("cameras", "nodes", "done"):
            kept[key] = tuple(kept[key])
        rate = Fraction(kept["rate"]) if kept["rate"] else None
        return cls(move, **kept | {"declares": frozenset(kept["declares"]), "rate": rate})


def says_of_own(frames: int, rate: Fraction | None, done: tuple[str, ...] = ()) -> dict[str, Any]:
    """As `BroughtIn.says`, of a move that was made here: so many frames, in metres, Y up."""
    return {
        "cameras": [],
        "nodes": [],
        "camera": "",
        "metres": 1.0,
        "up_axis": "Y",
        "declares": ["frames", "rate", "unit", "up_axis"],
        "rate": str(rate) if rate else None,
        "frames_in_file": frames,
        "done": list(done),
    }


def bring_in(source: Source, settings: Settings, plate_rate: Fraction, first: int = 1) -> BroughtIn:
    """Return one of a file's cameras as a move.

    Parameters
    ----------
    source : Source
    settings : Settings
    plate_rate : Fraction
        Frames per second of the plate.
    first : int
        The frame that the first moment gets if the file counts no frames.

    Raises
    ------
    Problem
        If there is no such camera, or its hierarchy can't be baked.
    """
    camera = _index(source, settings.camera, source.cameras, "camera")
    # A file that counts frames and says no rate has a clock of its own: a frame is a second there.
    frames_only = source.rate is None and source.first is not None
    rate = Fraction(1) if frames_only else source.rate or plate_rate
    step = 1 / (rate if settings.by == "frame" or frames_only else plate_rate)
    begins, ends = source.span
    count = int(np.floor((ends - begins) / float(step) + 1e-6)) + 1
    if count > MOST_FRAMES:
        raise Problem(
            f"The move has {count:,} frames; {MOST_FRAMES:,} are the most that can be brought in "
            "at once."
        )
    moments = np.arange(count) + settings.slip
    inside = (moments >= 0) & (moments <= count - 1)
    inside = inside if inside.any() else np.ones(count, bool)
    seconds = begins + moments[inside] * float(step)
    baked = _baked(source, camera, settings, seconds)
    metres = METRES[settings.unit] if settings.unit else source.metres
    up_axis = settings.up_axis or source.up_axis
    turn = from_y_up(up_axis).T
    seen = source.seen(camera, seconds)
    number = first if source.first is None else source.first
    if source.rate is not None and source.first is not None and settings.by == "time":
        number = round(source.first * plate_rate / rate)
    move = Move(
        number + settings.offset + np.flatnonzero(inside),
        turn @ baked.rotations,
        baked.positions @ turn.T * metres,
        seen.half_view,
        seen.focal_mm,
        seen.shift,
        seen.distortion,
    )
    move = move.before_axis(settings.pupil_mm / 1000)
    if not np.isfinite(move.positions).all() or np.abs(move.positions).max() > 1e7:
        raise Problem("The camera is more than 10,000 km away: the unit can't be right.", "unit")
    return BroughtIn(
        move,
        tuple(source.names[index] for index in source.cameras),
        tuple(source.names),
        source.names[camera],
        metres,
        up_axis,
        source.declares | (set() if source.first is None else {"frames"}),
        source.rate,
        round((ends - begins) * float(rate)) + 1,
        (*baked.done, *source.notes),
    )


def _baked(source: Source, camera: int, settings: Settings, seconds: Array) -> Baked:
    def nodes(index: int) -> list[Node]:
        chain = chain_of(source.parents, source.names, index)
        return [
            Node(source.names[one], source.parents[one], source.local(one, seconds))
            for one in chain
        ]

    if settings.target is None:
        return bake(nodes(camera))
    target = _index(source, settings.target, range(len(source.names)), "target")
    if target == camera:
        raise Problem("The target is where the camera is: it can't look at itself.", "target")
    up_axis = settings.up_axis or source.up_axis
    if up_axis == "Y":
        return bake(nodes(camera), nodes(target), np.radians(settings.roll_deg))
    # `bake` has Y up: the file's world is turned before, and back after.
    turn = np.eye(4)
    turn[:3, :3] = Z_UP_FROM_Y_UP.T
    above = Node("up axis", None, turn[None])
    baked = bake([above, *nodes(camera)], [above, *nodes(target)], np.radians(settings.roll_deg))
    back = Z_UP_FROM_Y_UP
    return Baked(back @ baked.rotations, baked.positions @ back.T, baked.done)


def _index(source: Source, name: str | None, among: Any, what: str) -> int:
    if not among:
        raise Problem("There is no camera in this file.")
    if name is None:
        return among[0]
    found = next((index for index in among if source.names[index] == name), None)
    if found is None:
        raise Problem(f"There is no {what} “{name}” in this file.", what)
    return found

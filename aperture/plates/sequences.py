"""Image sequences: which of many file names are the numbered pictures of one filmed plate."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import PurePath

from aperture.plates.reading import PICTURE_ENDINGS

# The last digits before the ending: plate.0001.exr, plate_000.jpg, plate-12.tif, plate0012.png.
_NUMBERED = re.compile(r"^(.*?)(\d{1,9})(\.[A-Za-z0-9]{1,5})$")


@dataclass(frozen=True)
class Sequence:
    """Files that belong together.

    stem, ending : what stands before and after the number.
    files : file name by picture number, in order of the numbers.
    doubled : further files whose number another file has already (plate.7.exr beside plate.07.exr),
    by number.
    """

    stem: str
    ending: str
    files: dict[int, str]
    doubled: dict[int, tuple[str, ...]] = field(default_factory=dict)

    @property
    def first(self) -> int:
        """The lowest number."""
        return next(iter(self.files))

    @property
    def last(self) -> int:
        """The highest number."""
        return next(reversed(self.files))

    @property
    def missing(self) -> list[int]:
        """The numbers between first and last that have no file; at most as many as there are files,
        and 10,000."""
        out: list[int] = []
        numbers = list(self.files)
        for before, after in zip(numbers, numbers[1:]):
            out.extend(range(before + 1, min(after, before + 10_001 - len(out))))
            if len(out) >= 10_000:
                break
        return out

    @property
    def name(self) -> str:
        """What people call it: the stem, the numbers' padding as #, the ending."""
        digits = self.files[self.first][len(self.stem) : -len(self.ending)]
        return f"{PurePath(self.stem + 'x').name[:-1]}{'#' * len(digits)}{self.ending}"


def tell_apart(names: Iterable[str]) -> tuple[list[Sequence], list[str]]:
    """The sequences among file names (with folders, parted by /), the longest first; and the names
    that belong to none.

    Pictures of one sequence share folder, stem and ending, in whatever case the ending is written.
    Files that aren't pictures by their ending belong to none. One numbered picture alone is a
    sequence of one.
    """
    found: dict[tuple[str, str], dict[int, list[str]]] = {}
    others = []
    for name in sorted(names):
        match = _NUMBERED.match(name)
        hidden = PurePath(name).name.startswith(".")
        if match is None or hidden or match[3].lower() not in PICTURE_ENDINGS:
            others.append(name)
            continue
        numbered = found.setdefault((match[1], match[3].lower()), {})
        numbered.setdefault(int(match[2]), []).append(name)
    sequences = [
        Sequence(
            stem,
            ending,
            {number: files[number][0] for number in sorted(files)},
            {
                number: tuple(files[number][1:])
                for number in sorted(files)
                if len(files[number]) > 1
            },
        )
        for (stem, ending), files in found.items()
    ]
    return sorted(sequences, key=lambda one: (-len(one.files), one.stem)), others


def ranges_of(numbers: Iterable[int]) -> str:
    """Numbers as people write them: 3, 5–8, 12."""
    out: list[list[int]] = []
    for number in sorted(set(numbers)):
        if out and number == out[-1][1] + 1:
            out[-1][1] = number
        else:
            out.append([number, number])
    return ", ".join(str(a) if a == b else f"{a}–{b}" for a, b in out)

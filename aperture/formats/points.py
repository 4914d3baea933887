"""Tables of tracked points: one line per place, `frame, name, x, y`, with its ± where it is known.

Written with a head, x right and y down from the outer corner of the first pixel, as everywhere
here. Read with any delimiter (comma, semicolon, tab, spaces), with or without a head, and with the
origin at the top or the bottom and pixel centres at halves or at whole numbers, as the file's maker
counts: no such file says it, so it is asked.
"""

from __future__ import annotations

import csv
import io
import math
import re
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.formats import delimited
from aperture.match.document import DEFAULT_SIGMA_PX
from aperture.track.tracks import Tracks

HEAD = ("frame", "name", "x", "y", "plus_minus_px")
MOST_ROWS = 5_000_000
LONGEST_NAME = 60


@dataclass(frozen=True)
class Convention:
    """How a table counts. from_bottom: y upwards from the bottom; centres: whole numbers are pixel
    centres; height: of the picture, px."""

    from_bottom: bool = False
    centres: bool = False
    height: int = 0

    def to_ours(self, xy: Array) -> Array:
        """(N, 2) px of ours, of the table's.

        Examples
        --------
        >>> Convention(from_bottom=True, centres=True, height=1080).to_ours(np.array([[0.0, 0.0]]))
        array([[5.0000e-01, 1.0795e+03]])
        """
        out = np.array(xy, float)
        if self.centres:
            out += 0.5
        if self.from_bottom:
            out[:, 1] = self.height - out[:, 1]
        return out


def write(tracks: Tracks) -> str:
    """The table of some tracks, in order of frames."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(HEAD)
    order = np.lexsort((tracks.track, tracks.frame))
    sigma = np.sqrt((tracks.sigma**2).mean(axis=1))
    for row in order.tolist():
        name = delimited.safe_cell(tracks.ids[tracks.track[row]])
        x, y = tracks.xy[row].tolist()
        table.writerow([int(tracks.frame[row]), name, f"{x:.4f}", f"{y:.4f}", f"{sigma[row]:.4f}"])
    return out.getvalue()


def read(data: bytes, convention: Convention) -> Tracks:
    """Tracks of a table's bytes; names become ids. Raises Problem with the line that is wrong."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Problem("This table isn't text in UTF-8: save it as CSV once more.") from None
    index: dict[str, int] = {}
    track, frame, xy, sigma = [], [], [], []
    for number, line in enumerate(delimited.lines(text), 1):
        cells = delimited.cells(line)
        if not cells or (number == 1 and not _is_number(cells[0])):
            continue
        if len(cells) < 4:
            raise Problem(f"Line {number} has {len(cells)} entries; it needs frame, name, x and y.")
        name = delimited.plain_cell(cells[1])[:LONGEST_NAME]
        if not name or re.search(r"[/\x00-\x1f\x7f]", name):
            raise Problem(f"Line {number}: “{name}” can't be the name of a track.")
        values = [_number(cells[column], number) for column in (2, 3)]
        own = _number(cells[4], number) if len(cells) > 4 and cells[4] else DEFAULT_SIGMA_PX
        if not 0 < own < 1e4:
            raise Problem(f"Line {number}: a ± of {own:g} px is none.")
        frame.append(_frame(cells[0], number))
        track.append(index.setdefault(name, len(index)))
        xy.append(values)
        sigma.append(own)
        if len(track) > MOST_ROWS:
            raise Problem(f"The table has more than {MOST_ROWS:,} lines.")
    if not track:
        raise Problem("This table has no points. Each line holds a frame, a name, x and y.")
    places = convention.to_ours(np.array(xy))
    return Tracks.build(list(index), track, frame, places, np.array(sigma).reshape(-1, 1))


def _is_number(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def _number(text: str, line: int) -> float:
    if not _is_number(text) or abs(float(text)) > 1e7:
        raise Problem(f"Line {line}: “{text[:30]}” isn't a number that can be a place.")
    return float(text)


def _frame(text: str, line: int) -> int:
    if not _is_number(text) or float(text) != int(float(text)) or abs(float(text)) > 1e7:
        raise Problem(f"Line {line}: “{text[:30]}” isn't a frame, a whole number.")
    return int(float(text))

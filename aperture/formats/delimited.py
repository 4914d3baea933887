"""Tables: rows that somebody else wrote (any line ends, every failure a sentence), and cells that
open safely elsewhere."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import Any

from aperture.errors import Problem


def lines(text: str) -> io.StringIO:
    """The text as csv's readers want it: whatever ends its lines (CR, LF, CR LF), they end in
    LF."""
    return io.StringIO(text, newline=None)


def rows(reader: Any) -> Iterator[Any]:
    """What a reader of the csv module yields. Raises Problem with the line that it can't read."""
    try:
        yield from reader
    except csv.Error as error:
        raise Problem(f"Line {reader.line_num} can't be read: {error}.") from None


def table(columns: list[str], items: list[dict[str, Any]]) -> str:
    """A CSV (RFC 4180) of items by their columns, its cells safe to open elsewhere."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns)
    writer.writerows([safe_cell(item[name]) for name in columns] for item in items)
    return out.getvalue()


def cells(line: str) -> list[str]:
    """The cells of one line, whatever stands between them: semicolons, tabs, commas or spaces; none
    of a comment. Raises Problem."""
    line = line.strip()
    if not line or line.startswith("#"):
        return []
    for delimiter in (";", "\t", ","):
        if delimiter in line:
            row = next(rows(csv.reader([line], delimiter=delimiter)))
            return [cell.strip() for cell in row]
    return line.split()


# A spreadsheet takes a cell that begins so for a formula.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def safe_cell(value: float | int | str) -> float | int | str:
    """A cell as it is written: text that a spreadsheet would take for a formula gets an apostrophe
    before it.

    After the advice of OWASP, "CSV injection" (from memory). Numbers stay as they are.
    """
    if not isinstance(value, str) or not value.startswith(_FORMULA):
        return value
    try:
        float(value)
        return value
    except ValueError:
        return "'" + value


def plain_cell(text: str) -> str:
    """A cell as it was before `safe_cell`."""
    return text[1:] if text.startswith("'") and text[1:].startswith(_FORMULA) else text

"""Rows of tables that somebody else wrote: any line ends, and every failure a sentence."""

import csv
import io

from aperture.errors import Problem


def lines(text: str) -> io.StringIO:
    """The text as csv's readers want it: whatever ends its lines (CR, LF, CR LF), they end in LF."""
    return io.StringIO(text, newline=None)


def rows(reader):
    """What a reader of the csv module yields. Raises Problem with the line that it can't read."""
    try:
        yield from reader
    except csv.Error as error:
        raise Problem(f"Line {reader.line_num} can't be read: {error}.") from None

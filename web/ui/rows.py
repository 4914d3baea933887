"""A row of a report: name, value ±, origin."""

from dataclasses import dataclass

ORIGINS = ("file", "catalogue", "typed", "solved", "assumed")


@dataclass(frozen=True)
class Row:
    """`origin` is one of ORIGINS, or empty where there is no value yet."""

    name: str
    value: str
    plus_minus: str = ""
    origin: str = ""
    title: str = ""


@dataclass(frozen=True)
class Remark:
    """A sentence that needs the artist, and buttons: (label, attributes) pairs. kind: note, doubt,
    bad, good."""

    title: str
    says: str
    kind: str = "doubt"
    remedies: tuple[tuple[str, dict], ...] = ()

"""What a check has to say, and what would put it right."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Remedy:
    """`gate`: the document to take."""

    key: str
    label: str
    gate: dict[str, Any]


@dataclass(frozen=True)
class Finding:
    """One thing worth saying. kind: good, note, doubt, bad."""

    key: str
    title: str
    says: str
    kind: str = "doubt"
    remedies: tuple[Remedy, ...] = ()

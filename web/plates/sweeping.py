"""Plates and films that no revision refers to any more: their folders and rows are removed after a
grace period."""

import re
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

from web.plates.models import Film, Plate
from web.shows.models import StatePart

_DIGEST = re.compile(r'"digest":\s*"([0-9a-f]{64})"')


def sweep(seconds: float, dry_run: bool = False) -> list[tuple[str, int]]:
    """Remove what was brought in, or asked for again, longer than `seconds` ago; (name, bytes) of
    each that goes."""
    used = set(_referred())
    gone = []
    for model in (Film, Plate):
        for row in model.objects.exclude(digest__in=used):
            if time.time() - _touched(row.folder) < seconds:
                continue
            gone.append((row.name, _size(row.folder)))
            if not dry_run:
                row.delete()  # first, so that a half-removed folder is nobody's
                shutil.rmtree(row.folder, ignore_errors=True)
    return gone


def _referred() -> Iterator[str]:
    for text in StatePart.objects.filter(text__contains='"digest"').values_list("text", flat=True):
        yield from _DIGEST.findall(text)


def _touched(folder: Path) -> float:
    try:
        return folder.stat().st_mtime
    except FileNotFoundError:
        return 0.0


def _size(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())

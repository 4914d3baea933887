"""Moves out of files: the one place that knows which ending is read by what."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from aperture.errors import Problem
from aperture.formats.alembic_in import AlembicSource
from aperture.formats.collada_in import ColladaSource
from aperture.formats.gltf_in import GltfSource
from aperture.formats.open_track import OpenTrackSource
from aperture.formats.recipe import Recipe
from aperture.formats.tables_in import TableSource
from aperture.formats.usd_in import UsdSource
from aperture.moves.source import BroughtIn, Settings, Source, bring_in

MOST_BYTES = 100_000_000


@dataclass(frozen=True)
class Format:
    """A format by what it is called; `open`: its file, and the recipe for those that need one, as a
    `Source`.
    """

    name: str
    open: Callable[[Path, Recipe], Source]
    needs_recipe: bool = False


def _usd(path: Path, _: Recipe) -> Source:
    return UsdSource(path)


def _gltf(path: Path, _: Recipe) -> Source:
    return GltfSource(path)


def _alembic(path: Path, _: Recipe) -> Source:
    return AlembicSource(path)


def _collada(path: Path, _: Recipe) -> Source:
    return ColladaSource(path)


def _open_track(path: Path, _: Recipe) -> Source:
    return OpenTrackSource(path.read_bytes())


def _table(path: Path, recipe: Recipe) -> Source:
    return TableSource(path.read_bytes(), recipe)


USD, GLTF = Format("OpenUSD", _usd), Format("glTF 2.0", _gltf)
TABLE, OPEN_TRACK = Format("text table", _table, True), Format("OpenTrackIO", _open_track)
FORMATS = {
    ".usd": USD,
    ".usda": USD,
    ".usdc": USD,
    ".usdz": USD,
    ".gltf": GLTF,
    ".glb": GLTF,
    ".dae": Format("COLLADA", _collada),
    ".abc": Format("Alembic", _alembic),
    ".csv": TABLE,
    ".txt": TABLE,
    ".tsv": TABLE,
    ".json": OPEN_TRACK,
    ".jsonl": OPEN_TRACK,
}


def format_of(name: str) -> Format:
    """The format of a file by its ending. Raises Problem."""
    ending = Path(name).suffix.lower()
    if ending not in FORMATS:
        raise Problem(
            f"A camera is read from {', '.join(FORMATS)}; “{Path(name).name[:60]}” is none of them."
        )
    return FORMATS[ending]


def read(
    path: Path,
    settings: Settings,
    plate_rate: Fraction,
    first: int = 1,
    recipe: Recipe | None = None,
) -> BroughtIn:
    """Return a file's camera as a move.

    Parameters
    ----------
    path : Path
        Its ending tells the format.
    settings : Settings
    plate_rate : Fraction
        Frames per second of the plate.
    first : int
        The frame that the first moment gets where the file counts none.
    recipe : Recipe, optional
        The conventions of a text table.

    Raises
    ------
    Problem
        If the file can't be read, has no camera, or one that can't be baked.
    """
    format_ = format_of(path.name)
    if path.stat().st_size > MOST_BYTES:
        raise Problem(f"A file with a camera has at most {MOST_BYTES // 1_000_000} MB.")
    recipe = recipe or Recipe()
    if settings.up_axis:
        recipe = replace(recipe, up_axis=settings.up_axis)
    try:
        return bring_in(format_.open(path, recipe), settings, plate_rate, first)
    except Problem:
        raise
    except (ArithmeticError, LookupError, TypeError, ValueError, RecursionError) as error:
        # What a damaged file holds is beyond counting; a reader that trips over it must not take
        # the page down.
        raise Problem(f"This file can't be read as {format_.name}: {_says(error)}") from error


def _says(error: Exception) -> str:
    return f"{str(error)[:100] or type(error).__name__}."

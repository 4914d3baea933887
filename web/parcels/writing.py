"""Writes parcels."""

import hashlib
import json
import zipfile
from pathlib import Path
from typing import Any

from aperture.plates.film import Film as Filmed
from web.blobs import store
from web.blobs.in_use import referred
from web.cut.actions import kept_in_parcel
from web.expose.models import light_of, looks_of
from web.moves.models import MoveLimits
from web.parcels.contents import FORMAT, INDEX, REVISION, ROWS, VERSION, ways_of
from web.plates.models import Film, Plate
from web.shows import state as states
from web.shows.models import Shot, Show, StatePart

# What doesn't get smaller by being packed.
PACKED = {".jpg", ".png", ".exr", ".mp4", ".mov", ".m4v", ".mxf", ".mkv", ".webm", ".avi", ".npz"}


class Parcel:
    """A parcel that is being written."""

    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._archive = archive
        self._sums: dict[str, str] = {}
        self._parts: set[str] = set()
        self._blobs: set[str] = set()
        self._ways: dict[str, dict] = {}
        self._films: set[str] = set()

    def write(self, show: Show, shots: list[Shot]) -> None:
        """Write shots of a show, and close the index."""
        index: dict[str, Any] = {
            "format": FORMAT,
            "version": VERSION,
            "state_version": states.VERSION,
            "show": {
                "name": show.name,
                "up_axis": show.up_axis,
                "length_unit": show.length_unit,
                "rate": str(show.rate),
                "thin_days": show.thin_days,
            },
            "recipes": list(show.recipes.values("name", "settings")),
            "move_limits": MoveLimits.of(show).to_json(),
            "light": light_of(show),
            "looks": looks_of(show),
            "shots": [self._shot(shot) for shot in shots],
            "cut": kept_in_parcel(show, {shot.pk: shot.code for shot in shots}),
        }
        self._blobs |= set(referred(index["looks"]))
        self._texts()
        for digest in sorted(self._blobs):
            self._file(f"blobs/{digest}", store.path_of(digest))
        index["plates"] = [self._plate(plate) for plate in self._of(Plate, set(self._ways))]
        index["films"] = [self._film(film) for film in self._of(Film, self._films)]
        index["files"] = self._sums
        self._archive.writestr(INDEX, json.dumps(index, indent=1), zipfile.ZIP_DEFLATED)

    def _shot(self, shot: Shot) -> dict[str, Any]:
        revisions = list(shot.revisions.order_by("number"))
        numbers = {one.pk: one.number for one in revisions}
        for revision in revisions:
            self._parts |= set(revision.parts.values())
            self._ways |= ways_of(revision.state)
            if revision.state["film"]:
                self._films.add(revision.state["film"]["digest"])
        rows = {
            kind.key: [
                self._row(one, kind.key, kind.fields) for one in getattr(shot, kind.key).all()
            ]
            for kind in ROWS
        }
        return {
            "code": shot.code,
            **shot.written,
            "locked": shot.locked,
            "archived": shot.archived,
            "head": shot.head.number,
            "revisions": [
                {name: getattr(one, name) for name in REVISION}
                | {"parent": numbers.get(one.parent_id or 0), "created": one.created.isoformat()}
                for one in revisions
            ],
            "handed_off": [
                {
                    "revision": one.revision,
                    "what": one.what,
                    "recipe": one.recipe,
                    "created": one.created.isoformat(),
                }
                for one in shot.handed_off.order_by("pk")
            ],
            **rows,
        }

    def _row(self, row, key: str, fields: tuple[str, ...]) -> dict[str, Any]:
        if key == "snapshots":
            self._file(f"{key}/{row.pk}/picture.png", row.file)
        else:
            for path in sorted(row.folder.rglob("*")):
                if path.is_file():
                    self._file(f"{key}/{row.pk}/{path.relative_to(row.folder)}", path)
        kept = {name: getattr(row, name) for name in fields}
        return kept | {"key": str(row.pk), "created": row.created.isoformat()}

    def _of(self, model, digests: set[str]):
        return model.objects.filter(digest__in=digests).order_by("digest")

    def _texts(self) -> None:
        """The parts' JSON, and what blobs it refers to."""
        texts = StatePart.texts(self._parts)
        for digest in sorted(self._parts):
            text = texts[digest].encode() if digest in texts else store.get(digest)
            self._data(f"parts/{digest}", text)
            self._blobs |= set(referred(json.loads(text)))

    def _plate(self, plate: Plate) -> dict[str, Any]:
        original = next(plate.folder.glob("original.*"))
        self._file(f"plates/{plate.digest}/{original.name}", original)
        return {"digest": plate.digest, "name": plate.name, "way": self._ways[plate.digest]}

    def _film(self, film: Film) -> dict[str, Any]:
        """Its files under names that say what they are; those that it refers to are taken along."""
        filmed, names = Filmed.read(film.folder), {}
        for number, place in sorted(filmed.files.items()):
            path = Path(place) if film.refers else film.folder / place
            name = f"{number}{path.suffix.lower()}"
            self._file(f"films/{film.digest}/{name}", path)
            names[str(number)] = name
        return {
            "digest": film.digest,
            "name": film.name,
            "movie": bool(filmed.movie),
            "was_lossy": filmed.was_lossy,
            "files": names,
        }

    def _file(self, name: str, path: Path) -> None:
        if not path.is_file():
            return
        how = zipfile.ZIP_STORED if path.suffix.lower() in PACKED else zipfile.ZIP_DEFLATED
        with open(path, "rb") as file:
            self._sums[name] = hashlib.file_digest(file, "sha256").hexdigest()
        self._archive.write(path, name, how)

    def _data(self, name: str, data: bytes) -> None:
        self._sums[name] = hashlib.sha256(data).hexdigest()
        self._archive.writestr(name, data, zipfile.ZIP_DEFLATED)


def write(path: Path, show: Show, shots: list[Shot]) -> None:
    """Write a parcel with some shots of a show."""
    with zipfile.ZipFile(path, "w", allowZip64=True) as archive:
        Parcel(archive).write(show, shots)

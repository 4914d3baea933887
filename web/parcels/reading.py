"""Takes parcels in. Everything in them is checked before anything is kept: names, sizes, sums, and
the state's schemas.

Plates and films are read again from their originals, behind the fence, as if they were uploaded;
what was made of them on the other installation isn't trusted, and isn't in the parcel.
"""

import hashlib
import json
import shutil
import tempfile
import zipfile
import zlib
from dataclasses import replace
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import transaction

from aperture import strict_json
from aperture.errors import Problem
from aperture.formats.recipe import Recipe as Conventions
from aperture.moves.readings import Limits
from aperture.plates.film import Film as Filmed
from aperture.plates.way_in import WayIn
from web.blobs import store
from web.cut.actions import from_parcel
from web.expose.models import take_light
from web.handoff.models import HandedOff
from web.moves.models import MoveLimits
from web.parcels.contents import DIGEST, FORMAT, INDEX, NAME, REVISION, ROWS, VERSION, Rows
from web.plates.actions import bring_in
from web.plates.film_actions import bring_in_film
from web.plates.models import Film
from web.plates.starting import start_small_pictures
from web.shows import state as states
from web.shows.models import Revision, Shot, Show, StatePart
from web.shows.organise import free_code, free_slug
from web.shows.state import State, Texts
from web.stage.stand_ins import counted

MOST_FILES, MOST_INDEX = 500_000, 200_000_000
ROOM_LEFT = 1_000_000_000  # bytes that stay free on the disk
NOT_ONE = (
    "This is no parcel: choose a .zip that *Save the whole shot* or *Save the whole show* wrote."
)


class _Open:
    """A parcel that is read."""

    def __init__(self, path: Path) -> None:
        try:
            self.archive = zipfile.ZipFile(path)
            self._sizes = {one.filename: one.file_size for one in self.archive.infolist()}
            if INDEX not in self._sizes or self._sizes[INDEX] > MOST_INDEX:
                raise Problem(NOT_ONE, "file")
            self.index = strict_json.loads(self.archive.read(INDEX))
        except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, OSError) as error:
            raise Problem(NOT_ONE, "file") from error
        if not isinstance(self.index, dict) or self.index.get("format") != FORMAT:
            raise Problem(NOT_ONE, "file")
        if (
            self.index.get("version") != VERSION
            or self.index.get("state_version", 0) > states.VERSION
        ):
            raise Problem(
                "This parcel is of a newer release. Bring this installation up to date first."
            )
        self.sums = self.index["files"]
        self._check_names()

    def _check_names(self) -> None:
        for name in self._sizes:
            if name != INDEX and (not NAME.fullmatch(name) or ".." in name):
                raise Problem(f"“{name[:80]}” has no place in a parcel. Nothing was taken.")
        if set(self.sums) != set(self._sizes) - {INDEX} or len(self._sizes) > MOST_FILES:
            raise Problem(
                "This parcel lacks files, or has some that it doesn’t know. Nothing was taken."
            )
        free = shutil.disk_usage(settings.DATA).free
        if sum(self._sizes.values()) > free - ROOM_LEFT:
            raise Problem(
                f"This parcel unpacks to {sum(self._sizes.values()) / 1e9:,.1f} GB, and only "
                f"{free / 1e9:,.1f} GB are free."
            )

    def below(self, folder: str) -> list[str]:
        """The names in a folder."""
        return [name for name in self._sizes if name.startswith(folder + "/")]

    def unpack(self, name: str, place: Path) -> Path:
        """Write a file, and compare its sum. Raises Problem."""
        place.parent.mkdir(parents=True, exist_ok=True)
        summed = hashlib.sha256()
        try:
            with self.archive.open(name) as packed, open(place, "wb") as file:
                while data := packed.read(1 << 20):
                    summed.update(data)
                    file.write(data)
        except (
            zipfile.BadZipFile,
            zlib.error,
            EOFError,
            NotImplementedError,
            RuntimeError,
        ) as error:
            raise Problem(f"“{name}” in this parcel is damaged. Nothing was taken.") from error
        if summed.hexdigest() != self.sums[name]:
            raise Problem(f"“{name}” isn’t what the parcel says. Nothing was taken.")
        return place


def take(path: Path, show: Show | None = None) -> Show:
    """Take a parcel's shots into a show, or a new one: all, or nothing. Raises Problem."""
    parcel = _Open(path)
    try:
        with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
            return _Taking(parcel, Path(folder)).take(show)
    except (KeyError, TypeError, ValueError, AttributeError, ValidationError) as error:
        if isinstance(error, Problem):
            raise
        raise Problem("This parcel’s index isn’t as it must be. Nothing was taken.") from error


class _Taking:
    """What is under way: a parcel, and a folder to unpack into."""

    def __init__(self, parcel: _Open, folder: Path) -> None:
        self.parcel, self.index, self.folder = parcel, parcel.index, folder
        self.films: dict[str, str] = {}  # digests there, and here

    def take(self, show: Show | None) -> Show:
        """Files first, each of which is stored under its content; then the rows, in one
        transaction.
        """
        texts = self._texts()
        self._blobs()
        self._plates()
        self._take_films()
        revisions = {shot["code"]: self._revisions(shot, texts) for shot in self.index["shots"]}
        made = []
        with transaction.atomic():
            show = show or self._show()
            self._recipes(show)
            for shot in self.index["shots"]:
                made.append(self._shot(show, shot, revisions[shot["code"]], texts))
            named = {told["code"]: shot for told, shot in zip(self.index["shots"], made)}
            from_parcel(show, self.index.get("cut"), named)
        for shot in made:
            if shot.state["film"]:
                start_small_pictures(shot, Film.objects.get(digest=shot.state["film"]["digest"]))
        return show

    def _texts(self) -> dict[str, str]:
        """The parts' JSON by digest."""
        out = {}
        for name in self.parcel.below("parts"):
            text = self.parcel.unpack(name, self.folder / "part").read_text("utf-8")
            digest, canonical = states.encode(strict_json.loads(text))
            if digest != name.removeprefix("parts/"):
                raise Problem(f"“{name}” isn’t what its name says. Nothing was taken.")
            out[digest] = canonical
        return out

    def _blobs(self) -> None:
        for name in self.parcel.below("blobs"):
            data = self.parcel.unpack(name, self.folder / "blob").read_bytes()
            if store.put(data) != name.removeprefix("blobs/"):
                raise Problem(f"“{name}” isn’t what its name says. Nothing was taken.")

    def _plates(self) -> None:
        for plate in self.index["plates"]:
            (name,) = self.parcel.below(f"plates/{_digest(plate['digest'])}")
            path = self.parcel.unpack(name, self.folder / Path(name).name)
            taken = bring_in(path, str(plate["name"]), WayIn.from_json(plate["way"]))
            if taken.digest != plate["digest"]:
                raise Problem(
                    f"The plate “{taken.name}” isn’t what the parcel says. Nothing was taken."
                )

    def _take_films(self) -> None:
        for film in self.index["films"]:
            place, files = self.folder / _digest(film["digest"]), []
            for number, name in film["files"].items():
                packed = f"films/{film['digest']}/{name}"
                path = self.parcel.unpack(packed, place / Path(name).name)
                stem = str(film["name"]).split("#")[0].rstrip("._-")
                called = film["name"] if film["movie"] else f"{stem}.{int(number):04}{path.suffix}"
                files.append((path, str(called)))
            taken = bring_in_film(files)
            if film.get("was_lossy"):
                replace(Filmed.read(taken.folder), was_lossy=True).write(taken.folder)
            self.films[film["digest"]] = taken.digest

    def _revisions(self, shot: dict, texts: dict[str, str]) -> list[dict]:
        """The revisions of a shot with their parts as they are here. Raises Problem where one can't
        be a state.
        """
        out, checked = [], set()
        for one in shot["revisions"]:
            parts = {key: _digest(digest) for key, digest in one["parts"].items()}
            if "film" in parts:
                parts["film"] = self._film_part(parts["film"], texts)
            known = Texts()
            known.update({digest: texts[digest] for digest in parts.values()})
            stored = State(parts, known)
            if one["version"] != states.VERSION:
                whole = {key: json.loads(texts[digest]) for key, digest in parts.items()}
                stored = states.upgraded(whole, one["version"])
            else:
                fresh = {key for key, digest in parts.items() if (key, digest) not in checked}
                stored.check(fresh)
                checked |= set(parts.items())
            out.append(
                {name: one[name] for name in REVISION}
                | {"parts": parts, "parent": one["parent"], "created": one["created"]}
            )
        return out

    def _film_part(self, digest: str, texts: dict[str, str]) -> str:
        """The part `film`, with the digest that the film has here: of files that lay elsewhere it
        is another one.
        """
        value = json.loads(texts[digest])
        value["digest"] = self.films[value["digest"]]
        own, text = states.encode(value)
        texts[own] = text
        return own

    def _show(self) -> Show:
        told = self.index["show"]
        name = counted(
            str(told["name"])[:110] or "Show", set(Show.objects.values_list("name", flat=True))
        )
        rate = Fraction(told["rate"])
        show = Show(
            name=name,
            slug=free_slug(name),
            up_axis=told["up_axis"],
            length_unit=told["length_unit"],
            rate_numerator=rate.numerator,
            rate_denominator=rate.denominator,
            thin_days=told["thin_days"],
        )
        show.clean_fields()
        show.save()
        return show

    def _recipes(self, show: Show) -> None:
        for one in self.index["recipes"]:
            kept = Conventions.from_json(one["settings"]).to_json()
            show.recipes.get_or_create(name=str(one["name"])[:80], defaults={"settings": kept})
        if told := self.index.get("move_limits"):  # parcels of earlier versions have none
            limits = Limits.from_json(told).to_json()
            MoveLimits.objects.get_or_create(show=show, defaults={"settings": limits})
        take_light(show, self.index.get("light"), self.index.get("looks") or [])

    def _shot(self, show: Show, told: dict, revisions: list[dict], texts: dict[str, str]) -> Shot:
        shot = Shot(show=show, code=free_code(show, str(told["code"])))
        for name in Shot.WRITTEN:
            setattr(shot, name, str(told[name]))
        shot.locked, shot.archived = bool(told["locked"]), bool(told["archived"])
        shot.clean_fields(exclude=["head"])
        shot.save()
        self._keep(revisions, texts)
        rows: dict[int, Revision] = {}
        for one in sorted(revisions, key=lambda one: one["number"]):
            fields = {name: one[name] for name in REVISION}
            parent = rows[one["parent"]] if one["parent"] is not None else None
            row = Revision.objects.create(shot=shot, parent=parent, **fields)
            _made(Revision, row, one["created"])
            rows[row.number] = row
        shot.head = rows[told["head"]]
        shot.save(update_fields=["head"])
        for one in told["handed_off"]:
            handed = HandedOff.objects.create(
                shot=shot,
                revision=int(one["revision"]),
                what=str(one["what"])[:40],
                recipe=str(one["recipe"])[:80],
            )
            _made(HandedOff, handed, one["created"])
        for kind in ROWS:
            for one in reversed(told[kind.key]):
                self._row(shot, kind, one)
        return Shot.objects.with_head().get(pk=shot.pk)

    def _keep(self, revisions: list[dict], texts: dict[str, str]) -> None:
        digests = {digest for one in revisions for digest in one["parts"].values()}
        for digest in digests:
            if len(texts[digest]) > states.LARGEST_INLINE:
                store.put(texts[digest].encode())
        StatePart.keep({digest: texts[digest] for digest in digests})

    def _row(self, shot: Shot, kind: Rows, one: dict) -> None:
        """A render, a returned one or a snapshot with its files."""
        fields = {name: one[name] for name in kind.fields}
        for name, _ in fields.get("looks", ()):
            if not NAME.fullmatch(f"renders/1/{name}"):
                raise Problem(f"“{name}” can’t be a picture of a render. Nothing was taken.")
        names = self.parcel.below(f"{kind.key}/{int(one['key'])}")
        if kind.key == "snapshots":
            if len(names) != 1:
                return
            place = Path(shot.show.slug, shot.code, f"{int(one['key'])}.png")
            self.parcel.unpack(names[0], settings.DATA / "snapshots" / place)
            fields["path"] = str(place)
        row = kind.model(shot=shot, **fields)
        _check(row, kind.fields)
        row.save()
        _made(kind.model, row, one["created"])
        if kind.key != "snapshots":
            start = len(f"{kind.key}/{one['key']}/")
            for name in names:
                self.parcel.unpack(name, row.folder / name[start:])


def _check(row, names) -> None:
    """Raise ValidationError where a field's value isn't of its kind, or too long; an empty one is
    as it was.
    """
    for name in names:
        value, field = getattr(row, name), row._meta.get_field(name)
        if value not in field.empty_values:
            setattr(row, name, field.clean(value, row))


def _made(model, row, created: str) -> None:
    """When a row was made, which Django sets anew."""
    model._base_manager.filter(pk=row.pk).update(created=datetime.fromisoformat(created))


def _digest(value: Any) -> str:
    if not isinstance(value, str) or not DIGEST.fullmatch(value):
        raise Problem("This parcel’s index isn’t as it must be. Nothing was taken.")
    return value

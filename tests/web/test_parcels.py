"""Whole shots and shows as parcels: they come in again as they were, and nothing of a bad one is
kept.
"""

import io
import json
import shutil
import zipfile
from dataclasses import replace
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile

from aperture.plates.film import Film as FilmInFolder
from tests.web.matched import MatchedShot
from tests.web.on_film import Filmed
from web.elements.models import Render
from web.handoff.models import HandedOff
from web.match.fits import fit_of
from web.match.models import StoredFit
from web.moves.models import MoveLimits
from web.plates.models import Film, Plate
from web.shows.history import edit
from web.shows.models import Revision, Shot, Show, StatePart


def taken(client, data, to="/parcels/take"):
    file = SimpleUploadedFile("parcel.zip", data)
    return client.post(to, {"file": file}, headers={"Accept": "application/json"})


def everything(shot):
    """What a shot is, in a form that doesn't depend on the installation."""
    revisions = [
        (
            one.number,
            one.parent and one.parent.number,
            one.label,
            dict(one.state),
            one.name,
            one.created,
        )
        for one in shot.revisions.all()
    ]
    rows = [
        list(rows.values_list("created", flat=True)) for rows in (shot.renders, shot.handed_off)
    ]
    return [revisions, rows, shot.written, shot.locked, shot.head.number]


def packed(data, **changes):
    """A parcel with some files changed, None: left out, and index entries of them brought up to
    date or not.
    """
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
        names = set(old.namelist()) | set(changes)
        for name in sorted(names):
            content = changes[name] if name in changes else old.read(name)
            if content is not None:
                new.writestr(name, content)
    return out.getvalue()


class Parcels(MatchedShot):
    def forget_all(self):
        """As on another installation."""
        for model in (HandedOff, Render, Shot, Show, StoredFit, StatePart, Plate, Film):
            if model is Shot:
                Shot.objects.update(head=None)
                Revision.objects.update(parent=None)
                Revision.objects.all().delete()
            model._base_manager.all().delete()
        for folder in ("plates", "blobs", "renders"):
            shutil.rmtree(Path(settings.DATA) / folder, ignore_errors=True)

    def parcel(self):
        answer = self.client.get("/shows/tide/LT901/parcel.zip")
        return b"".join(answer.streaming_content)

    def test_a_shot_comes_in_again_without_loss(self):
        shot = self.shot()
        self.place([0.4, 0, 0.8])
        self.client.get("/shows/tide/LT901/hand-off/camera.csv")
        render = Render.objects.create(
            shot=shot,
            digest="0" * 64,
            revision=1,
            width=4,
            height=4,
            seconds=1,
            looks=[["depth.png", "depth"]],
        )
        render.folder.mkdir(parents=True)
        (render.folder / "depth.png").write_bytes(b"not opened here")
        Shot.objects.filter(pk=shot.pk).update(locked=True, slate="14C", notes="Lamp in frame.")
        shot.show.recipes.create(name="Layout", settings={"unit": "cm"})
        MoveLimits.objects.create(show=shot.show, settings={"speed": 7.5})
        before, fit = everything(self.shot()), fit_of(self.shot().state)
        data = self.parcel()
        self.forget_all()
        answer = taken(self.client, data)
        self.assertEqual(answer.status_code, 302, answer.content)
        self.assertEqual(everything(self.shot()), before)
        self.assertEqual(fit_of(self.shot().state), fit)
        kept = Render.objects.get()
        self.assertEqual((kept.folder / "depth.png").read_bytes(), b"not opened here")
        self.assertEqual(Show.objects.get().recipes.get().conventions.unit, "cm")
        self.assertEqual(MoveLimits.of(Show.objects.get()).speed, 7.5)
        self.assertEqual(self.client.get("/shows/the-lantern-tide/LT901/match").status_code, 200)
        # Once more, beside the first: under a code of its own, and into another show.
        taken(self.client, data, "/shows/the-lantern-tide/parcels/take")
        codes = sorted(Shot.objects.values_list("code", flat=True))
        self.assertEqual(codes, ["LT901", "LT901-2"])
        taken(self.client, data)
        self.assertEqual(Show.objects.count(), 2)

    def test_nothing_of_a_bad_one_is_kept(self):
        data = self.parcel()
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            index = json.loads(archive.read("parcel.json"))
            part = next(name for name in archive.namelist() if name.startswith("parts/"))
            text = archive.read(part)

        def with_index(**changed):
            return packed(data, **{"parcel.json": json.dumps(index | changed)})

        shot = index["shots"][0]
        revisions = [
            one | {"parts": one["parts"] | {"marks": part[6:]}} for one in shot["revisions"]
        ]
        cases = (
            (b"no zip", "no parcel"),
            (packed(data, **{"parcel.json": "{}"}), "no parcel"),
            (with_index(version=2), "newer release"),
            (packed(data, **{"../../etc/cron.d/x": b"x"}), "has no place"),
            (packed(data, **{"plates/../x/y": b"x"}), "has no place"),
            (packed(data, **{part: text + b" "}), "isn’t what the parcel says"),
            (packed(data, **{part: None}), "lacks files"),
            (with_index(shots=[shot | {"revisions": revisions}]), "can't be used at /marks"),
            (with_index(shots=[shot | {"head": 99}]), "index isn’t"),
            (with_index(shots=[shot | {"code": ""}]), "index isn’t"),
            (
                with_index(plates=[one | {"digest": "../x"} for one in index["plates"]]),
                "index isn’t",
            ),
            (with_index(shots=3), "index isn’t"),
        )
        for bad, says in cases:
            answer = taken(self.client, bad)
            self.assertEqual(answer.status_code, 422, says)
            self.assertIn(says, answer.json()["problem"])
        self.assertEqual((Show.objects.count(), Shot.objects.count()), (1, 1))
        self.assertEqual(taken(self.client, data).status_code, 302)


class ParcelsOfFilms(Filmed):
    def test_files_that_lay_elsewhere_go_along(self):
        """A film that only refers to its files is a film of its own elsewhere."""
        self.bring("walk.1001.png", "refer", "day1")
        edit(self.shot_now(), "Range", lambda state: state.update(range=[1002, 1008]))
        before, folder = self.shot_now().state, Film.objects.get().folder
        replace(FilmInFolder.read(folder), was_lossy=True).write(
            folder
        )  # as if it had been converted
        data = b"".join(self.client.get(self.url("parcel.zip")).streaming_content)
        Film.objects.all().delete()
        shutil.rmtree(self.media)
        self.assertEqual(taken(self.client, data).status_code, 302)
        shot = Shot.objects.with_head().exclude(pk=self.shot.pk).get()
        self.assertFalse(Film.objects.get().refers)
        self.assertTrue(FilmInFolder.read(Film.objects.get().folder).lossy)
        self.assertEqual(
            dict(shot.state["film"]) | {"digest": ""}, dict(before["film"]) | {"digest": ""}
        )
        self.assertEqual(shot.state["range"], before["range"])
        self.assertEqual(self.pixels(1005), 1005)

"""What a save costs in a filmed shot with many tracks, against writing the whole state as one JSON
text; and how large its pages are."""

import json
import os
import sqlite3
import tempfile
import time
from pathlib import Path
from statistics import median

TRACKS, FRAMES, EDITS = 1000, 1000, 15
SOME = (10, 100, 1000)  # tracks


def _timed(act, count=EDITS) -> float:
    times = []
    for number in range(count):
        began = time.perf_counter()
        act(number)
        times.append(time.perf_counter() - began)
    return median(times)


def report() -> None:
    """Print the cost of an edit and of a progress poll, in a data folder of its own."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ |= {"APERTURE_DATA": folder, "DJANGO_SETTINGS_MODULE": "web.config.settings"}
        import django

        django.setup()
        from django.core.management import call_command

        call_command("migrate", verbosity=0)
        _measure(Path(folder))


def _part(at):
    """Tracks at places (T, F, 2), as the Match step keeps them."""
    import numpy as np

    from aperture.track.tracks import Tracks
    from web.match.tracking import as_part

    count, frames = at.shape[:2]
    ids = [f"t{number}" for number in range(count)]
    track, frame = np.repeat(np.arange(count), frames), np.tile(np.arange(frames), count)
    return as_part(Tracks.build(ids, track, frame, at.reshape(-1, 2), [[0.1, 0.1]]))


def _measure(folder):
    import numpy as np
    from django.test import Client
    from django.utils import timezone

    from web.jobs.models import Job
    from web.shows.history import create_shot, edit
    from web.shows.models import Show, StatePart

    shot = create_shot(Show.objects.create(name="The Lantern Tide", slug="tide"), "LT010")
    at = np.random.default_rng(1).uniform(0, 4096, (TRACKS, FRAMES, 2)).round(2)
    whole = {"marks": [], "tracks": at.tolist()}
    began = time.perf_counter()
    tracks = _part(at)
    edit(shot, "Tracks", lambda state: state.update(tracks=tracks))
    brought = time.perf_counter() - began

    base = sqlite3.connect(folder / "whole.sqlite3")
    base.execute("pragma journal_mode=wal")
    base.execute("pragma synchronous=full")
    base.execute("create table revision (state text)")

    def write_whole(number):
        with base:
            base.execute("insert into revision values (?)", (json.dumps(whole | {"n": number}),))

    reference = _timed(write_whole, 3)
    ours = _timed(lambda number: edit(shot, "Card", lambda state: state.update(card_m=number + 1)))
    _with_marks(shot, folder)
    for count in SOME:
        some = _part(at[:count])
        edit(shot, "Tracks", lambda state, some=some: state.update(tracks=some))
        mark = _timed(lambda number: _draw(shot, number))
        print(f"  one mark drawn beside {count:5,} tracks: {mark * 1e3:.0f} ms (wanted: 50)")
    Job.objects.create(shot=shot, kind="render", state=Job.RUNNING, beat=timezone.now())
    client = Client(headers={"host": "localhost"})
    before = sum(len(text) for text in StatePart.objects.values_list("text", flat=True))
    _draw(shot, 1234)
    added = sum(len(text) for text in StatePart.objects.values_list("text", flat=True)) - before
    print(f"  it adds {added / 1e3:.1f} kB (wanted: 20)")
    for step in ("plate", "match"):
        page = client.get(f"/shows/tide/LT010/{step}")
        assert page.status_code == 200, page.status_code
        print(
            f"  the page of {step}: {len(page.content) / 1e3:.0f} kB before pictures (wanted: 300)"
        )
    poll = _timed(lambda _: client.get("/shows/tide/LT010/jobs/render/progress"))
    print(f"\nA shot with {TRACKS:,} tracks over {FRAMES} frames")
    print(
        f"  an edit beside them: {ours * 1e3:.0f} ms, {ours / reference:.4f} of writing the whole"
        f" state as JSON ({reference:.2f} s); before: 7.8 s"
    )
    print(
        f"  the edit that brings them in: {brought:.2f} s, {brought / reference:.2f} of it; a"
        f" progress poll: {poll * 1e3:.0f} ms (before: 2.7 s)"
    )


def _with_marks(shot, folder) -> None:
    """A film of FRAMES pictures, on each of which something is drawn: 20 marks."""
    import cv2
    import numpy as np

    from aperture.plates.film import Film as Filmed
    from web.plates.actions import bring_in, take_plate
    from web.plates.models import Film
    from web.shows.history import edit

    picture = folder / "walk.1.png"
    cv2.imwrite(str(picture), np.full((720, 1280, 3), 90, np.uint8))
    take_plate(shot, bring_in(picture, picture.name))
    files = {number: f"pictures/{number}.png" for number in range(1, FRAMES + 1)}
    digest = "f" * 64
    row = Film.objects.create(
        digest=digest,
        name="walk.#.png",
        width=1280,
        height=720,
        first=1,
        last=FRAMES,
        count=FRAMES,
        kind="numbered pictures",
        notes=[],
    )
    row.folder.mkdir(parents=True)
    Filmed("walk.#.png", 1280, 720, tuple(files), files).write(row.folder)
    marks = [
        {"id": f"s{n}", "kind": "spot", "name": f"Spot {n}", "at": [10.0 * n, 20.0]}
        for n in range(20)
    ]
    film = {"digest": digest, "name": row.name, "first": 1, "last": FRAMES, "shown": 1, "offset": 0}
    aside = {str(n): {"marks": marks, "facts": []} for n in range(2, FRAMES + 1)}
    edit(shot, "Film", lambda state: state.update(film=film, aside=aside, marks=marks))


def _draw(shot, number) -> None:
    """One mark moved, as the Match page does."""
    from web.match.actions import set_marks
    from web.shows.models import Shot

    now = Shot.objects.with_head().get(pk=shot.pk)
    marks = [dict(mark) for mark in now.state["marks"]]
    marks[number % 20] |= {"at": [5.0 + number, 7.0]}
    set_marks(now, marks, "A spot", now.head.number)


if __name__ == "__main__":
    report()

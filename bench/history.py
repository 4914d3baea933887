"""What a save costs in a shot with 1,000 tracks over 500 frames, against writing the whole state as one JSON text."""

import json
import os
import sqlite3
import tempfile
import time
from pathlib import Path
from statistics import median

TRACKS, FRAMES, EDITS = 1000, 500, 15


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


def _measure(folder):
    import numpy as np
    from django.test import Client
    from django.utils import timezone

    from web.blobs import store
    from web.jobs.models import Job
    from web.shows import state as states
    from web.shows.history import create_shot, edit
    from web.shows.models import Show

    states.register(states.Part("tracks", {}, {"type": "object"}, "tracks"))
    shot = create_shot(Show.objects.create(name="The Lantern Tide", slug="tide"), "LT010")
    at = np.random.default_rng(1).uniform(0, 4096, (TRACKS, FRAMES, 2)).round(2)
    whole = {"marks": [], "tracks": at.tolist()}
    began = time.perf_counter()
    tracks = {"blob": store.put_arrays(at=at)}
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
    Job.objects.create(shot=shot, kind="render", state=Job.RUNNING, beat=timezone.now())
    client = Client(headers={"host": "localhost"})
    poll = _timed(lambda _: client.get("/shows/tide/LT010/jobs/render/progress"))
    print(f"\nA shot with {TRACKS:,} tracks over {FRAMES} frames")
    print(
        f"  an edit beside them: {ours * 1e3:.0f} ms, {ours / reference:.4f} of writing the whole state as JSON ({reference:.2f} s); before: 7.8 s"
    )
    print(
        f"  the edit that brings them in: {brought:.2f} s, {brought / reference:.2f} of it; a progress poll: {poll * 1e3:.0f} ms (before: 2.7 s)"
    )


if __name__ == "__main__":
    report()

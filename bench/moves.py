"""Moves: the ± of alignment over a thousand repetitions, and what follows a drag at 1,000 frames.

References of the times: SciPy's `Rotation.align_vectors` of the same points, and a loop that does
nothing but SciPy's cubic splines through as many keys.
"""

import os
import subprocess
import sys
import tempfile
import time
from fractions import Fraction

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation

from aperture.moves.align import Pair, Sighting, Wanted, align
from aperture.moves.authored import Authored, keyed_move
from aperture.moves.curves import Curve, Key
from aperture.moves.flight import PRESETS, fly
from aperture.moves.hierarchy import look_at
from aperture.moves.readings import readings

RATE, FRAMES, WANTED_MS = Fraction(24), 1000, 80
PLACE = np.array([3.0, 0.2, -5.0])
TURN = Rotation.from_euler("yxz", [70, 3, 2], degrees=True).as_matrix()


def _references(random, kinds, scale):
    world = random.uniform(-2, 2, (8, 3)) * [2, 1, 2]
    own = (world - PLACE) @ TURN / scale
    places = np.array([[0.5 * k - 2, 1.5 + 0.1 * k, 7] for k in range(8)])
    turns = TURN.T @ look_at(places, np.zeros((8, 3)))
    eyes = (places - PLACE) @ TURN / scale
    out = []
    for i in range(8):
        known = world[i] + random.normal(size=3) * 0.01
        if kinds[i] == "p":
            seen = own[i] + random.normal(size=3) * 0.02
            out.append(Pair(str(i), seen, known, 0.02, 0.01))
        else:
            away = turns[i].T @ (own[i] - eyes[i])
            seen = away[:2] / -away[2] + random.normal(size=2) * 0.002
            out.append(Sighting(str(i), turns[i], eyes[i], seen, known, 0.002, 0.01))
    return out


def plus_minus(count=1000):
    """Errors over their own ±: root mean square of the whole covariance's ellipsoid, per number."""
    print(f"\nAlignment: {count} simulated repetitions, seed 16; error over its ± (0.9–1.1 wanted)")
    for says, kinds, scale in (
        ("pairs", "pppppppp", 1.0),
        ("pairs, size free", "pppppppp", 1.3),
        ("sightings", "ssssssss", 1.0),
        ("sightings, size free", "ssssssss", 1.3),
        ("both", "ppssssss", 1.0),
    ):
        random = np.random.default_rng(16)
        squares = []
        for _ in range(count):
            found = align(_references(random, kinds, scale), Wanted(scale=scale != 1))
            turn = found.world_from_move[:3, :3] / found.scale
            off = Rotation.from_matrix(turn @ TURN.T).as_rotvec()
            error = np.concatenate([found.middle - PLACE, off])
            if scale != 1:
                error = np.append(error, np.log(found.scale / scale))
            within = found.covariance[: len(error), : len(error)]
            squares.append(error @ np.linalg.solve(within, error) / len(error))
        print(f"  {says:22} {np.sqrt(np.mean(squares)):.3f}")


def _worst(what, reference, rounds=60):
    """95th percentile of a call in ms, and as a ratio to the reference's median."""
    what()
    times, theirs = [], []
    for _ in range(rounds):
        began = time.perf_counter()
        what()
        between = time.perf_counter()
        reference()
        times.append(between - began)
        theirs.append(time.perf_counter() - between)
    high = 1000 * float(np.percentile(times, 95))
    return high, high / 1000 / float(np.median(theirs))


def drags():
    """What a drag asks for."""
    random = np.random.default_rng(3)
    told = _references(random, "ppssssss", 1.0)
    begin = align(told).world_from_move
    here, there = random.normal(size=(8, 3)), random.normal(size=(8, 3))
    keys = [Key(float(frame), float(random.normal())) for frame in range(0, FRAMES, 25)]
    names = ("x", "y", "z", "pan", "tilt", "roll")
    drawn = Authored({name: Curve.of(keys) for name in names}, 0, FRAMES - 1)
    move = keyed_move(drawn, RATE)
    at, values = np.array([key.frame for key in keys]), np.array([key.value for key in keys])
    frames = np.arange(FRAMES)
    things = [random.uniform(-3, 3, (200, 3, 3)) for _ in range(5)]

    def splines():
        for _ in names:
            CubicSpline(at, values)(frames)

    print(f"\nA drag over {FRAMES} frames, 95th percentile; {WANTED_MS} ms wanted")
    for says, what, reference in (
        (
            "alignment of 8 references",
            lambda: align(told, begin=begin),
            lambda: Rotation.align_vectors(here, there),
        ),
        ("keys to cameras", lambda: keyed_move(drawn, RATE), splines),
        ("flight", lambda: fly(move, PRESETS["helicopter"][1], RATE), splines),
        ("readings, 1,000 triangles", lambda: readings(move, RATE, things), splines),
    ):
        high, ratio = _worst(what, reference)
        print(f"  {says:28} {high:7.1f} ms   {ratio:8.1f} times its reference")


def pages(rounds=40):
    """What the pages' drags wait for, in a process of its own, on the demo's LT080."""
    with tempfile.TemporaryDirectory() as folder:
        environment = os.environ | {
            "APERTURE_DATA": folder,
            "DJANGO_SETTINGS_MODULE": "web.config.settings",
        }
        command = f"from bench.moves import _pages; _pages({rounds})"
        subprocess.run([sys.executable, "-c", command], env=environment, check=True)


def _pages(rounds):
    import django

    django.setup()
    from django.core.management import call_command
    from django.test import Client

    from demo.show import build
    from web.moves import authoring
    from web.shows.models import Shot

    call_command("migrate", verbosity=0)
    build()
    shot = authoring.begin(Shot.objects.with_head().get(code="LT080"), None)
    keys = authoring.move_called(shot.state, "m2").authored.to_json()
    random = np.random.default_rng(5)
    keys["last"] = keys["first"] + FRAMES - 1
    for name in ("x", "y", "z", "pan", "tilt", "roll"):
        keys["curves"][name] = [
            [frame, float(random.normal()), "smooth"] for frame in range(1, FRAMES, 25)
        ]
    client = Client(SERVER_NAME="127.0.0.1")
    at, stands = "/shows/the-lantern-tide/LT080/", np.eye(4).ravel().tolist()
    drag = {"frame": 10, "stands": stands, "way": "slide", "start": [400, 500]}

    def ask(rest, body):
        answer = client.post(at + rest, body, content_type="application/json")
        assert answer.status_code == 200, answer.content

    def nothing():
        client.get("/healthz")

    print(
        f"\nRequests of a drag, 95th percentile; {WANTED_MS} ms wanted; reference: a page without"
        " content"
    )
    for says, what in (
        ("the move over the plate", lambda: ask("moves/m1/hand", drag | {"end": [420, 510]})),
        (f"keys of {FRAMES} frames", lambda: ask("moves/m2/try", {"authored": keys})),
        (
            "the same, flown",
            lambda: ask(
                "moves/m2/try",
                {"authored": keys, "aircraft": PRESETS["racer"][1].to_json()},
            ),
        ),
    ):
        high, ratio = _worst(what, nothing, rounds)
        print(f"  {says:28} {high:7.1f} ms   {ratio:8.1f} times its reference")


def report():
    """All tables."""
    plus_minus()
    drags()
    pages()


if __name__ == "__main__":
    report()

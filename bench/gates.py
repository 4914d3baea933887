"""The Gate page of a show with 300 shots, in the server's own time and queries; the reference is
the same page of a show with two."""

import os
import subprocess
import sys
import tempfile
import time

import numpy as np


def gate_page(shots=300, rounds=30):
    """In a process of its own, on a data folder of its own."""
    with tempfile.TemporaryDirectory() as folder:
        environment = os.environ | {
            "APERTURE_DATA": folder,
            "DJANGO_SETTINGS_MODULE": "web.config.settings",
        }
        subprocess.run(
            [
                sys.executable,
                "-c",
                f"from bench.gates import _measure; _measure({shots}, {rounds})",
            ],
            env=environment,
            check=True,
        )


def _measure(shots, rounds):
    import django

    django.setup()
    from django.core.management import call_command
    from django.db import connection
    from django.test import Client
    from django.test.utils import CaptureQueriesContext, override_settings

    from demo.show import build
    from web.shows.history import create_shot, edit
    from web.shows.models import Show

    call_command("migrate", verbosity=0)
    build()
    show = Show.objects.get()
    state = show.shots.with_head().first().state

    def steps_of(number):
        """Each shot's own, so that none is read or computed for another."""
        return [
            *state["gate"]["steps"],
            {"id": "o1", "do": "overscan", "percent": 10 + number / 100},
            {"id": "o2", "do": "extract", "aspect": 2.39, "width": 2048},
        ]

    def measure():
        times, counts = {}, {}
        for address in ("/shows/the-lantern-tide/LT010/gate", "/shows/the-lantern-tide/cameras"):
            client.get(address)
            with CaptureQueriesContext(connection) as queries:
                client.get(address)
            counts[address] = len(queries)
            for _ in range(rounds):
                began = time.perf_counter()
                assert client.get(address).status_code == 200
                times.setdefault(address, []).append(time.perf_counter() - began)
        return {key: np.median(value) * 1e3 for key, value in times.items()}, counts

    with override_settings(ALLOWED_HOSTS=["*"]):
        client = Client()
        few, few_queries = measure()
        for number in range(shots - show.shots.count()):
            shot = create_shot(show, f"LX{number:03}")
            edit(
                shot,
                "as LT010",
                lambda new, number=number: new.update(
                    plate=state["plate"],
                    gate=state["gate"] | {"steps": steps_of(number)},
                    marks=state["marks"],
                ),
            )
        many, many_queries = measure()
    print(
        f"\nOpening pages of a show with {shots} shots, server time, median of {rounds}; reference:"
        " the same page with two shots"
    )
    for address, wanted in zip(many, (" (wanted 100)", " (wanted 150)")):
        print(
            f"  {address.rsplit('/', 1)[-1]:8} {many[address]:.0f} ms{wanted},"
            f" {many_queries[address]} queries; with two shots {few[address]:.0f} ms,"
            f" {few_queries[address]} queries; {many[address] / few[address]:.2f} × as long"
        )

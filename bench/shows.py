"""`python -m bench.shows`: a show of 300 matched shots: its board, its cut, a search, and the gates
of its 300 cameras, as server time of Django's own client.

Wanted on two cores: board 100 ms, cut 150 ms, search 50 ms, cameras 150 ms. Reference: one bare
query for the same 300 shots and their heads.
"""

import copy
import os
import tempfile
import time
from statistics import median

SHOTS, TIMES = 300, 9
WANTED = {"board": 100, "cut": 150, "search": 50, "cameras": 150}


def report() -> None:
    """Print the times, in a data folder of its own."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ |= {"APERTURE_DATA": folder, "DJANGO_SETTINGS_MODULE": "web.config.settings"}
        import django

        django.setup()
        from django.core.management import call_command

        call_command("migrate", verbosity=0)
        _measure()


def _measure() -> None:
    from django.test import Client

    from demo.plates import FOLDER, truth
    from demo.show import marks_for
    from web.match.actions import set_marks
    from web.plates.actions import bring_in, take_plate
    from web.shows.history import create_shot, edit
    from web.shows.models import Shot, Show

    show = Show.objects.create(name="The Lantern Tide", slug="tide")
    name = "LT010_boathouse_morning"
    gate = {"width_mm": 36.0, "height_mm": 20.25, "squeeze": 1.0, "origin": "typed", "name": ""}
    plate = bring_in(FOLDER / f"{name}.jpg", f"{name}.jpg")
    for number in range(SHOTS):
        shot = create_shot(show, f"LT{number:04}", f"Boathouse, take {number}")
        told = copy.deepcopy(gate)
        edit(take_plate(shot, plate), "Gate", lambda state, told=told: state.update(gate=told))
        if number % 10 == 0:  # a tenth of them is matched: each fit takes its time
            set_marks(
                Shot.objects.with_head().get(pk=shot.pk), marks_for(truth(name)), "Marks", None
            )
    client = Client(HTTP_HOST="127.0.0.1")
    pages = {
        "board": "/shows/tide/",
        "cut": "/shows/tide/cut",
        "search": "/shows/tide/?q=LT012",
        "cameras": "/shows/tide/cameras",
    }
    for address in pages.values():  # standings are worked out once
        client.get(address)
    bare = _timed(
        lambda: list(
            Shot.objects.filter(show=show)
            .select_related("head")
            .values_list("code", "head__number", "head__parts")
        )
    )
    print(f"\nA show of {SHOTS} shots; a bare query for them: {1000 * bare:.1f} ms")
    for key, address in pages.items():
        seconds = _timed(lambda address=address: client.get(address))
        print(
            f"  {key}: {1000 * seconds:.0f} ms (wanted {WANTED[key]}), {seconds / bare:.0f} × the"
            " bare query"
        )


def _timed(act) -> float:
    times = []
    for _ in range(TIMES):
        began = time.perf_counter()
        act()
        times.append(time.perf_counter() - began)
    return median(times)


if __name__ == "__main__":
    report()

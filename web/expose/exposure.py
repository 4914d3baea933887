"""The exposure of a shot: the plate's, and the virtual camera's, which is the plate's where nothing is typed."""

import math
from dataclasses import dataclass

from aperture.light.exposure import Exposure, format_seconds, format_stop, shutter_seconds
from web.plates.models import metadata_of, plate_of
from web.shows.history import edit
from web.shows.models import Shot
from web.shows.steps import Standing

# What a plate's metadata call it.
OF_PLATE = {"f_number": "f_number", "seconds": "exposure_time", "iso": "iso"}


@dataclass(frozen=True)
class Given:
    """One of the three figures: its value, None where it isn't known, and its origin (file or typed)."""

    value: float | None
    origin: str


def of_plate(shot: Shot) -> dict[str, Given]:
    """Stop, shutter (s) and ISO that the plate was taken with."""
    known, typed = metadata_of(shot.state, plate_of(shot)), shot.state["plate_facts"]
    origins = dict.fromkeys(known, "file") | dict.fromkeys(typed, "typed")
    return {key: Given(known.get(name), origins.get(name, "")) for key, name in OF_PLATE.items()}


def of_camera(shot: Shot) -> dict[str, Given]:
    """Stop, shutter (s) and ISO of the virtual camera: as typed, else as the plate's."""
    own, out = dict(shot.state["exposure"]), of_plate(shot)
    if "angle" in own:
        own["seconds"] = shutter_seconds(own.pop("angle"), float(shot.show.rate))
    return out | {key: Given(value, "typed") for key, value in own.items()}


def together(given: dict[str, Given]) -> Exposure | None:
    """The exposure that three figures make; None where one isn't known."""
    values = {key: one.value for key, one in given.items()}
    return None if None in values.values() else Exposure(**values)


def written(shot: Shot, key: str, given: Given) -> str:
    """A figure as the trade writes it; a dash where it isn't known."""
    if given.value is None:
        return "–"
    if key == "f_number":
        return format_stop(given.value)
    if key == "iso":
        return f"{given.value:g}"
    angle = shot.state["exposure"].get("angle")
    if angle and given.origin == "typed" and given.value == of_camera(shot)["seconds"].value:
        return f"{math.degrees(angle):g}° ({format_seconds(given.value)})"
    return format_seconds(given.value)


def set_exposure(shot: Shot, values: dict, base: int | None) -> Shot:
    """What is typed of the virtual camera's exposure; what is left out is as the plate has it."""
    return edit(shot, "Exposure of the camera", lambda state: state.update(exposure=values), base)


def standing(shot: Shot) -> Standing:
    """Settled once stop, shutter and ISO are known."""
    given = of_camera(shot)
    exposure = together(given)
    if exposure:
        return Standing("settled", f"EV {exposure.ev100:.1f}")
    known = sum(one.value is not None for one in given.values())
    return Standing("begun", f"{known} of 3 known") if known else Standing("nothing", "no exposure")

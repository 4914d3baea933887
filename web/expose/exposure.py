"""The exposure of a shot: the plate's, and the virtual camera's, which is the plate's where nothing
is typed."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from aperture.errors import Problem
from aperture.light.exposure import Exposure, format_seconds, shutter_seconds
from aperture.light.scales import nearest, stepped
from web.plates.models import metadata_of, plate_of
from web.shows.history import edit
from web.shows.models import Shot
from web.shows.steps import Standing

SAME = 2e-4  # by which share a figure may differ from a mark
# What a plate's metadata call it.
OF_PLATE = {"f_number": "f_number", "seconds": "exposure_time", "iso": "iso"}


@dataclass(frozen=True)
class Given:
    """One of the three figures: its value, None where it isn't known, and its origin (file or
    typed)."""

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
    typed = {key: Given(own[key], "typed") for key in OF_PLATE if key in own}
    return out | typed


def glass_of(shot: Shot) -> dict[str, float]:
    """What filters and glass take of the virtual camera's light, as `Exposure` has it."""
    own = shot.state["exposure"]
    return {
        "nd_stops": own.get("nd_stops", 0.0),
        "transmittance": own.get("transmittance", 1.0),
    }


def together(given: dict[str, Given], glass: Mapping[str, float] = {}) -> Exposure | None:
    """The exposure that three figures make, through some glass; None where one isn't known."""
    values = {key: one.value for key, one in given.items() if one.value is not None}
    return Exposure(**values, **glass) if len(values) == len(given) else None


def camera_exposure(shot: Shot) -> Exposure | None:
    """The virtual camera's exposure; None where a figure isn't known."""
    return together(of_camera(shot), glass_of(shot))


def brighter(shot: Shot) -> float:
    """By how many stops the virtual camera's picture is brighter than the plate; 0 where that isn't
    known.

    The plate's light came through the plate's own glass: only what was typed of the camera's counts
    against it.
    """
    plate, camera = together(of_plate(shot)), camera_exposure(shot)
    return camera.brighter_than(plate) if plate and camera else 0.0


def changed(shot: Shot, values: dict, holder: str | None) -> dict:
    """What is typed of the exposure, with one figure that holds it.

    Parameters
    ----------
    values : dict
        The state's part as it was typed.
    holder : str or None
        Of HOLDERS.

    Raises
    ------
    Problem
        If the exposure isn't known as a whole, or the holder can't hold it.
    """
    if holder is None:
        return values
    before = camera_exposure(shot)
    if before is None:
        raise Problem("An exposure can be held once stop, shutter and ISO are known.")
    plate = of_plate(shot)
    after = {key: one.value for key, one in plate.items() if one.value is not None}
    typed = dict(values)
    if "angle" in typed:
        typed["seconds"] = shutter_seconds(typed["angle"], float(shot.show.rate))
    after |= {key: typed[key] for key in OF_PLATE if key in typed}
    glass = {
        key: typed.get(key, usual) for key, usual in (("nd_stops", 0.0), ("transmittance", 1.0))
    }
    if len(after) < len(plate):
        raise Problem("An exposure can be held once stop, shutter and ISO are known.")
    if not math.isclose(after[holder], getattr(before, holder), rel_tol=1e-3):
        raise Problem("What holds the exposure can't be typed at the same time.")
    now = Exposure(**after, **glass).held_at(before.light_ev100, holder)
    return _with(values, holder, getattr(now, holder))


def at_ev(shot: Shot, ev100: float, holder: str) -> dict:
    """What has to be typed for the light of an exposure value at ISO 100, by changing one figure.

    Raises Problem as `changed` does.
    """
    before = camera_exposure(shot)
    if before is None:
        raise Problem("An EV can be set once stop, shutter and ISO are known.")
    now = before.held_at(ev100, holder)
    return _with(dict(shot.state["exposure"]), holder, getattr(now, holder))


def _with(values: dict, name: str, value: float) -> dict:
    """What is typed, with another value of one figure."""
    kept = dict(values)
    if name == "seconds":
        kept.pop("angle", None)
    return kept | {name: value}


def written(shot: Shot, key: str, given: Given) -> str:
    """A figure as the trade writes it: the marked value where it is one; a dash where it isn't
    known."""
    if given.value is None:
        return "–"
    said = _marked(key, given.value) or _plainly(key, given.value)
    angle = shot.state["exposure"].get("angle")
    own = given.origin == "typed" and given.value == of_camera(shot)["seconds"].value
    if key == "seconds" and angle and own:
        return f"{math.degrees(angle):g}° ({format_seconds(given.value)})"
    return said


def exactly(key: str, given: Given) -> str:
    """The exact value that a marked one means; empty where it isn't one, or is the same."""
    if given.value is None or not _marked(key, given.value):
        return ""
    value = nearest(key, given.value).exact
    said = _plainly(key, value, 4)
    return "" if said == _marked(key, given.value) else said


def _marked(key: str, value: float) -> str:
    mark = nearest(key, value)
    near = min(abs(value / mark.exact - 1), abs(value / mark.marked - 1))
    return mark.text if near < SAME else ""


def _plainly(key: str, value: float, digits: int = 3) -> str:
    if key == "f_number":
        return f"f/{value:.{digits}g}"
    return f"{value:.{digits + 1}g}" if key == "iso" else format_seconds(value)


def set_exposure(shot: Shot, values: dict, base: int | None) -> Shot:
    """What is typed of the virtual camera's exposure; what is left out is as the plate has it."""
    return edit(shot, "Exposure of the camera", lambda state: state.update(exposure=values), base)


def step(shot: Shot, key: str, by: int, size: str, holder: str | None, base: int | None) -> Shot:
    """Move one figure of the virtual camera along its marks. Raises Problem where it isn't
    known."""
    given = of_camera(shot)[key]
    if given.value is None:
        raise Problem("Type a value first: there is none to step from.")
    mark = stepped(key, given.value, by, size)
    values = _with(dict(shot.state["exposure"]), key, mark.exact)
    return set_exposure(shot, changed(shot, values, holder), base)


def standing(shot: Shot) -> Standing:
    """Settled once stop, shutter and ISO are known."""
    given = of_camera(shot)
    exposure = together(given)
    if exposure:
        return Standing("settled", f"EV {exposure.ev100:.1f}")
    known = sum(one.value is not None for one in given.values())
    return Standing("begun", f"{known} of 3 known") if known else Standing("nothing", "no exposure")


# What may hold the exposure where the stop changes for its depth.
STOP_HOLDERS = (("", "nothing"), ("seconds", "the shutter"), ("iso", "the ISO"))

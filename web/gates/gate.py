"""The gate of a shot's state, read once for every step that needs it."""

import math
from collections.abc import Callable, Mapping, MutableMapping
from dataclasses import dataclass

from aperture.camera import Camera
from aperture.gates.chain import Chain, build
from aperture.gates.checks import AspectCheck
from aperture.gates.steps import at_frame
from aperture.geometry.grid import Grid
from aperture.lens.distortion import NAMES
from aperture.lens.lens import Lens
from aperture.lens.projections import PANORAMAS, Pieces, named
from web.plates.frames import number_now, number_of, way_of
from web.plates.models import metadata_of, plate_of
from web.shows.state import once
from web.shows.steps import Standing


@dataclass(frozen=True)
class FoundLens:
    """The lens a gate's figures are computed with, and where its focal length comes from (an
    origin)."""

    lens: Lens
    origin: str


_match: list[Callable] = []


def register_lens(provider: Callable) -> None:
    """The Match step tells here how the matched lens of a state is found: `provider(state, number)`
    gives a FoundLens or None.

    `number` is that of a picture of a film, or None.

    Registered and not imported: no step imports a later one.
    """
    _match[:] = [provider]


@once
def lens_of(state: MutableMapping, plate=None, number: int | None = None) -> FoundLens | None:
    """The matched lens, on a picture `number` or on the one that is worked on; else one of the
    typed focal length.

    Else of the file's, which the `plate` knows.
    """
    if not state["gate"]:
        return None
    found = _match[0](state, number) if _match and state["plate"] else None
    if found:
        return found
    given = state["lens"].get("focal_mm")
    if given:
        focal, origin = given["value"], "catalogue" if state["lens"].get("name") else "typed"
    else:
        focal = metadata_of(state, plate).get("focal_mm")
        origin = "typed" if "focal_mm" in state.get("plate_facts", {}) else "file"
    if not focal:
        return None
    wanted, projection = (
        state["lens"].get("distortion", "none"),
        state["lens"].get("projection", "rectilinear"),
    )
    known = wanted if isinstance(wanted, dict) and projection == "rectilinear" else {}
    chain = chain_of(state)
    width, height, squeeze = chain.match_gate
    x, y = chain.axis_px
    grid = chain.plate_grid
    centre = (x / grid.width - 0.5) * width, (y / grid.height - 0.5) * height
    return FoundLens(
        Lens(
            focal, squeeze, projection, centre, tuple(float(known.get(name, 0.0)) for name in NAMES)
        ),
        origin,
    )


@once
def chain_of(state: MutableMapping, lens: Lens | None = None) -> Chain | None:
    """The gate chain; None until there is a gate. With a lens, what it bends is followed too."""
    plate, gate = state["plate"], state["gate"]
    if not gate:
        return None
    if not plate:
        return build(gate, None, lens)
    return build(of_plate(gate, state), (plate["width"], plate["height"]), lens)


def of_plate(gate: dict, state: MutableMapping, number: int | None = None) -> dict:
    """A gate document with all that holds for the plate: its way in, and what steps do on the
    picture `number` (the one worked on)."""
    if number is None:
        number = number_now(state)
    return with_way_in(gate | {"steps": at_frame(gate.get("steps", []), number)}, state)


def chain_at(state: MutableMapping, number: int, known_of=None) -> Chain:
    """The gate chain of one picture of a film, where steps do something else on each and a lens may
    zoom.

    known_of: the plate whose file may know the focal length.
    """
    plate, found = state["plate"], lens_of(state, known_of, number)
    gate = of_plate(state["gate"], state, number)
    return build(gate, (plate["width"], plate["height"]), found.lens if found else None)


def chain_on(shot, frame: int) -> Chain | None:
    """The bent chain of a shot on a frame: of a film, as that frame's picture has it. None without
    a gate."""
    if not shot.state["gate"]:
        return None
    plate = plate_of(shot)
    if not shot.state["film"]:
        return bent_chain(shot.state, plate)[0]
    number = number_of(shot.state, frame)
    if number == number_now(shot.state):
        return bent_chain(shot.state, plate)[0]
    return chain_at(shot.state, number, plate)


def with_way_in(gate: dict, state: MutableMapping) -> dict:
    """A gate document with what is done to the plate on its way in as the last steps before it."""
    way, plate = way_of(state), state["plate"]
    if not way or not plate:
        return gate
    own = way.steps(plate["width"], plate["height"])
    steps = gate.get("steps", [])
    at = gate.get("plate_at", len(steps))
    return gate | {"steps": [*steps[:at], *own, *steps[at:]], "plate_at": at + len(own)}


@once
def bent_chain(state: MutableMapping, plate=None) -> tuple[Chain | None, FoundLens | None]:
    """The chain with the lens that is known of it, and that lens; what it bends is followed through
    it."""
    found = lens_of(state, plate)
    return chain_of(state, found.lens if found else None), found


def grid_of(state: MutableMapping) -> Grid | None:
    """The plate's grid; None until there are a plate and a gate."""
    return chain_of(state).plate_grid if state["plate"] and state["gate"] else None


def plate_origin(state: MutableMapping) -> str:
    """Where the plate's gate comes from, as an origin; empty without a gate."""
    chain = chain_of(state)
    return chain.origin(chain.plate, state["gate"]["origin"]) if chain else ""


def for_match(state: MutableMapping) -> dict:
    """What the gate tells a match document: `gate`, and in `lens` where the axis meets a plate cut
    off-centre. Empty without a gate."""
    if not state["gate"]:
        return {}
    chain = chain_of(state)
    width, height, squeeze = (round(value, 9) for value in chain.match_gate)
    grid, (x, y) = chain.plate_grid, chain.axis_px
    out = {"gate": {"width_mm": width, "height_mm": height, "squeeze": squeeze}, "lens": {}}
    if abs(x - grid.width / 2) > 1e-6 or abs(y - grid.height / 2) > 1e-6:
        out["lens"]["principal_point"] = [round(x, 6), round(y, 6)]
    if chain.stages[chain.plate].straight:
        out["lens"]["distortion"] = "none"
    return out


def aspect_of(state: MutableMapping) -> AspectCheck | None:
    """Whether gate and picture agree; None until there are both."""
    if not state["plate"] or not state["gate"]:
        return None
    return AspectCheck(chain_of(state), state["gate"])


def all_around(state: Mapping) -> str:
    """Of a panorama, what its gate is: an angle; empty of other plates."""
    name = state["lens"].get("projection", "rectilinear")
    gate = state["gate"]
    if name not in PANORAMAS or not gate or "width_mm" not in gate:
        return ""
    if isinstance(named(name), Pieces):
        return name
    focal = (state["lens"].get("focal_mm") or {}).get("value")
    if not focal:
        return "all around"
    across = math.degrees(gate["width_mm"] / focal)
    high = gate["height_mm"] / focal
    down = math.degrees(high if name == "equirectangular" else 2 * math.atan(high / 2))
    return f"{across:.0f}° × {down:.0f}°"


def gate_words(camera: Camera, places: int = 2) -> str:
    """A camera's lens and gate as they are read: of a panorama angles, of others millimetres."""
    wide, high = camera.grid.gate_mm
    if isinstance(camera.lens.projection, Pieces):
        return f"all around, {camera.lens.projection.name}"
    if camera.lens.projection.around:
        view = camera.view
        across, down = math.degrees(view.horizontal), math.degrees(view.vertical)
        return f"{camera.lens.projection.name}, {across:.1f}° × {down:.1f}°"
    return f"{camera.lens.focal_mm:.2f} mm · gate {wide:.{places}f} × {high:.{places}f} mm"


def lies_around(shot) -> dict | None:
    """Of a panorama, how its pixels lie around: px per radian, where its axis is, and whether it
    goes all around; None of other plates.
    """
    state = shot.state
    name = state["lens"].get("projection", "rectilinear")
    focal = (state["lens"].get("focal_mm") or {}).get("value")
    projection = named(name)
    if not projection.around or not focal or not state["plate"]:
        return None
    chain = chain_of(state)
    if chain is None:
        return None
    grid = chain.plate_grid
    (x, y), (right, _) = grid.to_px([[0.0, 0.0], [focal, 0.0]]).tolist()
    if isinstance(projection, Pieces):
        return {"focal": right - x, "centre": [x, y], "full": False} | projection.told()
    whole = 2 * math.pi * (right - x)
    full = abs(whole - state["plate"]["width"]) < 0.5
    return {"projection": name, "focal": right - x, "centre": [x, y], "full": full}


def standing(shot) -> Standing:
    """Needs the artist while gate and picture disagree."""
    gate, check = shot.state["gate"], aspect_of(shot.state)
    if not gate:
        return Standing("nothing", "no gate")
    if check and not check.agrees:
        return Standing("needs", f"{abs(check.error_px):.0f} px off")
    width, height = (
        check.chain.plate_grid.gate_mm if check else (gate["width_mm"], gate["height_mm"])
    )
    if around := all_around(shot.state):
        return Standing("settled", around)
    return Standing("settled", f"{width:.2f} × {height:.2f} mm")

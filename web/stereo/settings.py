"""What a shot's stereo is: how far apart its two cameras stand, where they converge, who looks."""

from aperture.errors import Problem
from aperture.stereo.pair import EYES_M, Pair, Seat, keyed
from web.plates.frames import number_now, offset_of
from web.shows.history import edit
from web.shows.models import Shot

# A screen of a small cinema, and a seat in the middle of it: common practice, no source.
USUAL = {"mode": "shifted", "screen_m": 8.0, "seat_m": 12.0, "eyes_m": EYES_M}


def pair_of(shot: Shot, frame: int | None = None) -> Pair | None:
    """The pair on a frame of the shot, by its keys where it has some; None while nothing is
    typed."""
    own = shot.state["stereo"]
    number = number_now(shot.state) if frame is None else frame - offset_of(shot.state)
    if own.get("keys"):
        apart, away = keyed(own["keys"], number)
    elif "interaxial_m" in own and "convergence_m" in own:
        apart, away = own["interaxial_m"], own["convergence_m"]
    else:
        return None
    return Pair(apart, away, own.get("mode", USUAL["mode"]))


def seat_of(shot: Shot) -> Seat:
    """Who looks at it."""
    own = USUAL | shot.state["stereo"]
    return Seat(own["screen_m"], own["seat_m"], own["eyes_m"])


def set_stereo(shot: Shot, label: str, base: int | None, **values) -> Shot:
    """Keep some of the figures; None takes one away. Raises Problem where they can't be."""
    own = {
        name: value for name, value in (shot.state["stereo"] | values).items() if value is not None
    }
    if "interaxial_m" in own and "convergence_m" in own:
        Pair(own["interaxial_m"], own["convergence_m"], own.get("mode", USUAL["mode"]))
    seat = USUAL | own
    Seat(seat["screen_m"], seat["seat_m"], seat["eyes_m"])
    return edit(shot, label, lambda state: state.update(stereo=own), base)


def with_key(shot: Shot, number: int, base: int | None) -> Shot:
    """A key of both distances, as they are now, on a picture. Raises Problem where nothing is typed
    yet."""
    pair = pair_of(shot)
    if pair is None:
        raise Problem("Type both distances first.")
    rest = [key for key in shot.state["stereo"].get("keys", []) if key[0] != number]
    keys = sorted([*rest, [number, pair.interaxial_m, pair.convergence_m]])
    return set_stereo(shot, "A stereo key", base, keys=keys)


def without_key(shot: Shot, number: int, base: int | None) -> Shot:
    """Take the key on a picture away."""
    keys = [key for key in shot.state["stereo"].get("keys", []) if key[0] != number]
    return set_stereo(shot, "Took out a stereo key", base, keys=keys or None)

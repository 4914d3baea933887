"""What the Tracks leaf asks for of chosen tracks, as the page's script sends it."""

from typing import Annotated, Literal

import msgspec

from aperture.errors import Problem
from aperture.units import parse_length, parse_number
from web.match import by_hand, keep_out, tracking
from web.match import track_relations as relations
from web.match.aids import Wish as AidsWish
from web.match.following import REACHES
from web.match.starting import start_by_hand
from web.shows.models import Shot
from web.shows.reading import Edit, Text

# How well a tape is read, where nothing is typed: metres.
USUAL_PLUS_MINUS_M = 0.005
# How well a zoom's scale or encoder tells its focal length: common practice, no source.
USUAL_FOCAL_SHARE = 0.01

Ids = Annotated[list[Text], msgspec.Meta(max_length=tracking.MOST_CHOSEN)]
Verb = Literal[
    "remove",
    "begin",
    "end",
    "floor",
    "origin",
    "free",
    "off",
    "on",
    "distance",
    "direction",
    "plane",
    "height",
    "end_each",
    "readout",
    "zoom",
    "constant",
    "focal",
    "file_focals",
    "stand",
    "bend",
    "place",
    "correct",
    "take_back",
    "offset",
    "window",
    "join",
    "follow",
]


class Wish(Edit, frozen=True, kw_only=True):
    """A verb on chosen tracks.

    `frame` and `at`, px of the plate: for those about a place on a frame; `frames`: one for each
    id; `axis`: of a direction or a plane; `reach`: half a window's side; `length`, `plus_minus`
    and `readout` as typed; `shutter`: whether a readout is known, or to be solved for.
    """

    verb: Verb
    ids: Ids = []
    frame: int = 0
    frames: Annotated[list[int], msgspec.Meta(max_length=tracking.MOST_CHOSEN)] = []
    at: tuple[float, float] = (0.0, 0.0)
    reach: int = 0
    length: Text = ""
    axis: Literal["across", "up", "along"] = "across"
    readout: Text = ""
    shutter: Literal["global", "known", "solved"] = "global"
    plus_minus: Text = ""
    aids: AidsWish | None = None


def carry_out(shot: Shot, wish: Wish) -> tuple[Shot, list[str]]:
    """Carry out what is wished; the shot, and the tracks that are chosen from now on, if it says
    so."""
    if wish.verb == "place":
        number = tracking.picture_of(shot.state, wish.frame)
        shot, id_ = by_hand.place(shot, number, wish.at, wish.revision)
        return shot, [id_]
    if wish.verb == "follow":
        tracking.require_chosen(tracking.tracks_of(shot.state), wish.ids)
        start_by_hand(shot, list(wish.ids))
        return _fresh(shot), []
    shot = _VERBS[wish.verb](shot, wish)
    if wish.verb in _FOLLOWED_ANEW:
        again = set(by_hand.stale(tracking.tracks_of(shot.state))) & set(wish.ids)
        if again and start_by_hand(shot, sorted(again), only_if_idle=True):
            shot = _fresh(shot)
    return shot, wish.ids[:1] if wish.verb == "join" else []


def _fresh(shot: Shot) -> Shot:
    """As it is now: the work may have been done at once."""
    return Shot.objects.with_head().get(pk=shot.pk)


def _floor(shot, wish):
    return tracking.tell(
        shot, wish.ids, "On the floor", wish.revision, world=[None, 0, None], world_plus_minus=0.0
    )


def _origin(shot, wish):
    if len(set(wish.ids)) != 1:
        raise Problem("The origin is one track: choose one.")
    return tracking.tell(
        shot, wish.ids, "Origin", wish.revision, world=[0, 0, 0], world_plus_minus=0.0
    )


def _free(shot, wish):
    return tracking.tell(
        shot, wish.ids, "Place unknown", wish.revision, world=None, world_plus_minus=None, on=None
    )


def _measured(shot, wish) -> dict[str, float]:
    """A typed length and its ±, metres."""
    unit = shot.show.length_unit
    metres = parse_length(wish.length, unit)
    plus_minus = (
        parse_length(wish.plus_minus, unit) if wish.plus_minus.strip() else USUAL_PLUS_MINUS_M
    )
    if plus_minus < 0:
        raise Problem("A ± is never below zero.", "plus_minus")
    return {"metres": metres, "plus_minus": plus_minus}


def _distance(shot, wish):
    ids = list(dict.fromkeys(wish.ids))
    if len(ids) != 2:
        raise Problem("A distance lies between two tracks: choose two.")
    fact = {"kind": "length", "from": ids[0], "to": ids[1], **_measured(shot, wish)}
    if fact["metres"] <= 0:
        raise Problem("A distance is above zero.", "length")
    return tracking.add_fact(shot, fact, wish.revision)


def _direction(shot, wish):
    text = wish.plus_minus.replace("°", "")
    degrees = parse_number(text, "plus_minus") if text.strip() else relations.USUAL_DIRECTION_DEG
    return relations.add_direction(shot, wish.ids, wish.axis, degrees, wish.revision)


def _height(shot, wish):
    number = tracking.picture_of(shot.state, wish.frame)
    fact = {"kind": "camera_height", "frame": number, **_measured(shot, wish)}
    return tracking.add_fact(shot, fact, wish.revision)


Area = Literal["draw", "shape", "add_corner", "take_corner", "forget", "remove", "clear"]
Corner = tuple[float, float]


class AreaWish(Edit, frozen=True, kw_only=True):
    """A verb on a keep-out area; `corners`, px of the plate, as it is on `frame`.

    `index`: of a corner; `share`: how far on the way from there to the next one another is put.
    """

    verb: Area
    id: Text = ""
    frame: int = 0
    index: int = 0
    share: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.5
    corners: Annotated[list[Corner], msgspec.Meta(max_length=keep_out.MOST_CORNERS)] = []
    aids: AidsWish | None = None


def carry_out_area(shot: Shot, wish: AreaWish) -> Shot:
    """Carry out what is wished of keep-out areas."""
    if wish.verb == "clear":
        return keep_out.clear(shot, wish.revision)
    if wish.verb == "remove":
        return keep_out.remove(shot, wish.id, wish.revision)
    if wish.verb == "take_corner":
        return keep_out.take_corner(shot, wish.id, wish.index, wish.revision)
    number = tracking.picture_of(shot.state, wish.frame)
    if wish.verb == "add_corner":
        return keep_out.add_corner(
            shot, wish.id, number, wish.index, wish.share, wish.corners, wish.revision
        )
    if wish.verb == "draw":
        return keep_out.draw(shot, number, wish.corners, wish.revision)
    if wish.verb == "shape":
        return keep_out.shape(shot, wish.id, number, wish.corners, wish.revision)
    return keep_out.forget(shot, wish.id, number, wish.revision)


def _here(shot, wish) -> int:
    return tracking.picture_of(shot.state, wish.frame)


def _end_each(shot, wish):
    if len(wish.frames) != len(wish.ids):
        raise Problem("Each track that is ended needs its frame.")
    # They jump on that frame: the one before is the last that is right.
    numbers = [tracking.picture_of(shot.state, frame) - 1 for frame in wish.frames]
    return by_hand.end_each(shot, dict(zip(wish.ids, numbers)), wish.revision)


def _one(wish) -> str:
    if len(set(wish.ids)) != 1:
        raise Problem("Choose one track for that.")
    return wish.ids[0]


def _window(shot, wish):
    if wish.reach not in REACHES:
        sides = ", ".join(f"{2 * reach + 1}" for reach in REACHES)
        raise Problem(f"A window has a side of {sides} px.", "reach")
    return by_hand.set_window(shot, wish.ids, wish.reach, wish.revision)


def _focal(shot, wish):
    measured = _measured(shot, wish)
    mm = measured["metres"] * 1e3
    if not 1 <= mm <= 10_000:
        raise Problem("Type the focal length with its unit, such as 35 mm.", "length")
    plus_minus = measured["plus_minus"] * 1e3 if wish.plus_minus.strip() else USUAL_FOCAL_SHARE * mm
    return tracking.add_focals(shot, [(_here(shot, wish), mm, plus_minus)], wish.revision)


def _readout(shot, wish):
    if wish.shutter != "known":
        return tracking.set_readout(shot, wish.shutter == "solved", None, 0.0, wish.revision)
    value, _, plus_minus = wish.readout.replace("ms", "").partition("±")
    ms = parse_number(value, "readout")
    spread = parse_number(plus_minus, "readout") if plus_minus.strip() else 0.0
    return tracking.set_readout(shot, False, ms, abs(spread), wish.revision)


def _file_focals(shot, wish):
    rows = tracking.focals_of_file(shot)
    if not rows:
        raise Problem("The files say nothing of a focal length that changes.")
    known = [(number, mm, USUAL_FOCAL_SHARE * mm) for number, mm in rows]
    return tracking.add_focals(shot, known, wish.revision)


_FOLLOWED_ANEW = ("correct", "take_back", "offset", "window")
_VERBS = {
    "remove": lambda shot, wish: tracking.remove(shot, wish.ids, wish.revision),
    "begin": lambda shot, wish: by_hand.trim(
        shot, wish.ids, _here(shot, wish), False, wish.revision
    ),
    "end": lambda shot, wish: by_hand.trim(shot, wish.ids, _here(shot, wish), True, wish.revision),
    "end_each": _end_each,
    "correct": lambda shot, wish: by_hand.correct(
        shot, _one(wish), _here(shot, wish), wish.at, wish.revision
    ),
    "take_back": lambda shot, wish: by_hand.take_back(
        shot, _one(wish), _here(shot, wish), wish.revision
    ),
    "offset": lambda shot, wish: by_hand.set_offset(
        shot, _one(wish), _here(shot, wish), wish.at, wish.revision
    ),
    "window": _window,
    "join": lambda shot, wish: by_hand.join(shot, wish.ids, wish.revision),
    "floor": _floor,
    "origin": _origin,
    "free": _free,
    "off": lambda shot, wish: tracking.tell(
        shot, wish.ids, "Switched off", wish.revision, off=True
    ),
    "on": lambda shot, wish: tracking.tell(shot, wish.ids, "Switched on", wish.revision, off=None),
    "distance": _distance,
    "direction": _direction,
    "plane": lambda shot, wish: relations.lie_on_plane(shot, wish.ids, wish.axis, wish.revision),
    "height": _height,
    "readout": _readout,
    "zoom": lambda shot, wish: tracking.set_zoom(shot, True, wish.revision),
    "constant": lambda shot, wish: tracking.set_zoom(shot, False, wish.revision),
    "stand": lambda shot, wish: tracking.set_stands(shot, True, wish.revision),
    "bend": lambda shot, wish: tracking.set_stands(shot, False, wish.revision),
    "focal": _focal,
    "file_focals": _file_focals,
}

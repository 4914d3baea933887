"""What the set view draws: stand-ins, spots with their ±, cameras with their frusta, the plate
card; metres, in the show's up axis.
"""

import numpy as np

from aperture.geometry.axes import from_y_up
from aperture.scene import overlay
from aperture.scene.frustum import across, beyond, dome
from aperture.units import METRES
from web.match.fits import fit_of
from web.match.overlay import spacing_for
from web.plates.models import metadata_of
from web.stage.cameras import MATCHED, facts_of, matched_of, planes_of
from web.stage.stand_ins import shown, stand_in_from

# Where the plate card stands unless told, as a share of the distance from the camera to the origin.
CARD_REACH = 1.35
LIMIT_REACH = 1.5  # of a frustum's drawn length: a limit of sharpness farther away isn't drawn
SHORT = 0.3  # length of another camera's frustum unless told, as a share of that
CARD_IN = {"both": "both views", "lens": "the lens view only", "set": "the set view only"}


def world(shot, cameras, items, through, plate=None) -> dict | None:
    """Everything that the set view draws, as JSON; None without any camera."""
    if not cameras:
        return None
    turn, matched = from_y_up(shot.show.up_axis), matched_of(cameras)
    first = (matched or cameras[0]).camera
    return {
        "up": shot.show.up_axis,
        "spacing": spacing_for(first, METRES[shot.show.length_unit]),
        "solids": solids(shot, items),
        "spots": _spots(shot, turn),
        "eye": (turn @ first.position).tolist(),
        "right": (turn @ first.rotation[:, 0]).tolist(),
        "cameras": [
            _camera(one, shot, turn, through, plate if one.id == MATCHED else None)
            for one in cameras
            if not one.looks["hidden"]
        ],
        "card": (card_corners(shot, matched.camera) @ turn.T).tolist()
        if matched and card_in(shot) != "lens" and not matched.camera.lens.projection.around
        else None,
    }


def solids(shot, items) -> dict:
    """The stand-ins of `items` by id, as flat lists of points, triangles and drawn lines."""
    turn = from_y_up(shot.show.up_axis)
    return {item["id"]: solid(stand_in_from(item), turn) for item in items}


def solid_lines(item) -> tuple[np.ndarray, np.ndarray]:
    """Points (N, 3) of a stand-in, metres, and which two of them its drawn lines (L, 2) join."""
    points, _, lines = _drawn_solid(stand_in_from(item))
    return points, np.asarray(lines)


def _drawn_solid(placed) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points, triangles and lines; of a fine mesh those of its box, without triangles."""
    if len(placed.solid.triangles) > overlay.MOST_DRAWN:
        return placed.bounds(), np.zeros(0, int), np.asarray(overlay.BOX_EDGES)
    points, (edges, sides) = placed.vertices(), placed.solid.edges
    normals = placed.solid.face_normals(points)
    lines = edges[
        (sides[:, 1] < 0)
        | ((normals[sides[:, 0]] * normals[sides[:, 1]]).sum(axis=1) < overlay.CREASE)
    ]
    return points, placed.solid.triangles, lines


def solid(placed, turn) -> dict:
    """A stand-in as the set view draws it: flat lists of points, triangles and drawn lines."""
    points, faces, lines = _drawn_solid(placed)
    return {
        "points": np.round(points @ turn.T, 5).ravel().tolist(),
        "faces": faces.ravel().tolist(),
        "lines": lines.ravel().tolist(),
    }


def known_spots(shot) -> list[tuple[str, dict]]:
    """The spots whose place the fit knows, (name, what it knows) each."""
    fit = fit_of(shot.state)
    if not fit or not fit.get("ok") or fit["determined"]["scale"] == "no":
        return []
    names = {mark["id"]: mark.get("name") or mark["id"] for mark in shot.state["marks"]}
    return [
        (names.get(id_, id_), spot)
        for id_, spot in fit.get("spots", {}).items()
        if None not in spot["world_m"]
    ]


def _spots(shot, turn) -> list[dict]:
    """The same for the set view, with their ±."""
    return [
        {
            "name": name,
            "at": (turn @ spot["world_m"]).tolist(),
            "plus_minus": np.abs(turn @ spot["plus_minus_m"]).tolist(),
        }
        for name, spot in known_spots(shot)
    ]


def _camera(one, shot, turn, through, plate) -> dict:
    camera, looks = one.camera, one.looks
    length = looks["length_m"] or (
        card_distance(shot, camera)
        if one.id == MATCHED
        else max(float(np.linalg.norm(camera.position)) * SHORT, 0.3)
    )

    around = camera.lens.projection.around
    planes = None if around else planes_of(shot, one)

    def frame(distance):
        return (across(camera, distance) @ turn.T).tolist()

    return {
        "eye": (turn @ camera.position).tolist(),
        "right": (turn @ camera.rotation[:, 0]).tolist(),
        "end": frame(length),
        "dome": _dome(shot, one, length, turn) if around else None,
        "focus": frame(planes.focus) if planes else None,
        "limits": [
            frame(at)
            for at in ((planes.near, planes.far) if planes else ())
            if at and at < LIMIT_REACH * length
        ],
        "opacity": looks["opacity"],
        "facts": facts_of(one, shot.show, metadata_of(shot.state, plate), planes)
        if looks["facts"] != "none"
        else [],
        "side": looks["facts"],
        "chosen": bool(through) and one.id == through.id,
    }


def _dome(shot, one, length, turn) -> dict:
    """A panorama's picture around its camera, flat; `shows`: whether the plate is on it."""
    points, at, faces, lines = dome(one.camera, length)
    return {
        "points": np.round(points @ turn.T, 4).ravel().tolist(),
        "at": np.round(np.stack([at[:, 0], 1 - at[:, 1]], -1), 5).ravel().tolist(),
        "faces": faces.ravel().tolist(),
        "lines": lines.ravel().tolist(),
        "shows": one.id == MATCHED and card_in(shot) != "lens",
    }


# The plate card
# --------------------------------------------------------------------------------------------------


def card_in(shot) -> str:
    """In which views it shows: a key of CARD_IN."""
    return shot.state.get("card", {}).get("in", "both")


def card_left(shot):
    """Where it was left in space, (4, 3) metres, the corners clockwise from the upper left; None
    while it goes with the camera.
    """
    left = shot.state.get("card", {}).get("left")
    return np.array(left, float) if left else None


def card_distance(shot, camera) -> float:
    """Metres along the axis to the plate card: as chosen, or where it is of use."""
    left = card_left(shot)
    if left is not None:
        return float(max((-camera.to_camera_space(left)[:, 2]).mean(), 1e-3))
    usual = max(float(np.linalg.norm(camera.position)) * CARD_REACH, 0.5)
    return float(shot.state.get("card_m") or usual)


def card_corners(shot, camera) -> np.ndarray:
    """(4, 3) metres."""
    left = card_left(shot)
    return left if left is not None else across(camera, card_distance(shot, camera))


def cut_off(shot, camera) -> list[str]:
    """The names of the stand-ins that reach beyond the card; a panorama's picture has no far
    side."""
    if camera.lens.projection.around:
        return []
    corners = card_corners(shot, camera)
    return [
        item["name"]
        for item in shown(shot.state)
        if beyond(camera, corners, stand_in_from(item).bounds()).any()
    ]

"""The set over time: stand-ins and floor as each frame's camera sees them, the path itself, and the
points that it was solved from."""

import numpy as np

from aperture.geometry.axes import from_y_up
from aperture.scene import overlay
from aperture.scene.frustum import across
from aperture.units import METRES
from web.match.overlay import path_of, spacing_for
from web.match.path_fits import camera_of_state, placed_path, require_path_fit, served
from web.plates.frames import offset_of
from web.stage.stand_ins import shown, with_way
from web.stage.world import card_distance, card_left, solid

# Points that the set view draws, those with the smallest ±; and frames in one answer.
MOST_POINTS, MOST_FRAMES = 1500, 120
LOOKS_M = 0.35  # how far the mark reaches that shows where a panorama's camera looks
# A point whose ± is larger than this share of its distance says nothing about the set.
VAGUE = 0.03


def seen(shot, first: int, last: int) -> dict[int, dict]:
    """By picture number, of those that have a camera: the stand-ins' edges and the floor grid, px;
    and those that move as the set view draws them, by their ids.
    """
    path, offset = placed_path(shot.state), offset_of(shot.state)
    still = camera_of_state(shot.state) if path is None else None
    placed = [(item, with_way(shot.state, item)) for item in shown(shot.state)]
    up, out = from_y_up(shot.show.up_axis), {}
    for number in range(first, min(last, first + MOST_FRAMES - 1) + 1):
        camera = still
        if path is not None and number + offset in path:
            camera = path.at(number + offset)
        if camera is None:
            continue
        spacing = spacing_for(camera, METRES[shot.show.length_unit])
        lens = [
            {
                "id": item["id"],
                "name": item["name"],
                "d": path_of(overlay.wire(camera, one.at(number + offset))),
            }
            for item, one in placed
        ]
        floor = {"class": "floor", "d": path_of(overlay.floor_grid(camera, spacing, 12))}
        moved = {
            item["id"]: solid(one.at(number + offset), up) for item, one in placed if one.moves
        }
        out[number] = {"lens": lens, "paths": [floor], "moved": moved}
    return out


def plays(state) -> bool:
    """Whether what is seen of the set is another thing on other frames."""
    moves = bool(state["film"]) and any("way" in item for item in state["stand_ins"])
    return moves or placed_path(state) is not None


def path_in_set(shot) -> dict | None:
    """The path for the set view, in the show's up axis: eyes and plate cards by picture, and points
    with their ±; None without one."""
    path = placed_path(shot.state)
    if path is None:
        return None
    turn, left = from_y_up(shot.show.up_axis), card_left(shot)
    cards = []
    for frame in path.frames.tolist():
        camera = path.at(frame)
        if left is not None:
            corners = left
        elif camera.lens.projection.around:  # no picture to carry along, but where it looks
            corners = across(camera, LOOKS_M)
        else:
            corners = across(camera, card_distance(shot, camera))
        cards.append(np.round(corners @ turn.T, 4).tolist())
    at, plus_minus = _points(shot, path)
    return {
        "numbers": (path.frames - offset_of(shot.state)).tolist(),
        "eyes": np.round(path.positions @ turn.T, 4).tolist(),
        "cards": cards,
        "points": np.round(at @ turn.T, 4).ravel().tolist(),
        "plus_minus": np.round(np.abs(plus_minus @ turn.T), 5).ravel().tolist(),
    }


def _points(shot, path) -> tuple[np.ndarray, np.ndarray]:
    """Places and ± (n, 3), metres, of the best known points."""
    points = [] if served(shot.state) else require_path_fit(shot.state)["points"].values()
    at = np.array([point["world_m"] for point in points], float).reshape(-1, 3)
    sigma = np.array([point["plus_minus_m"] for point in points], float).reshape(-1, 3)
    away = np.linalg.norm(at - np.median(path.positions, axis=0), axis=1)
    worst = np.linalg.norm(sigma, axis=1)
    good = np.flatnonzero(worst < VAGUE * away)
    good = good[np.argsort(worst[good])[:MOST_POINTS]]
    return at[good], sigma[good]

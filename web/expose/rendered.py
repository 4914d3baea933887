"""Bringing a render to the plate: pairs of patches, and the gains that they say.

Where renders are kept is later steps' matter: the app that has them registers what finds one.
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from aperture.errors import Problem
from aperture.light.metering import patch_of
from aperture.light.patches import Matched, match_patches
from aperture.render.compose import composite
from web.expose import looks, maps
from web.plates.models import require_plate
from web.shows.history import edit
from web.shows.models import Shot


@dataclass(frozen=True)
class OverPlate:
    """A render that lies over the plate: what it is called; `read` gives it, (H, W, 4) linear."""

    name: str
    read: Callable[[], np.ndarray]


# Gives the render that lies over the plate; None without one.
Finder = Callable[[Shot], OverPlate | None]
_find: list[Finder] = []


def register_render(find: Finder) -> None:
    """Add what finds a shot's newest render over the plate; called by its app."""
    _find[:] = [find]


def render_of(shot: Shot) -> OverPlate | None:
    """The newest render that lies over the plate; None without one."""
    return _find[0](shot) if _find else None


def require_render(shot: Shot) -> np.ndarray:
    """(H, W, 4) the newest render that lies over the plate, linear. Raises Problem without one."""
    found = render_of(shot)
    if found is None:
        raise Problem("There is no render over the plate yet: the Elements step makes one.")
    return found.read()


def shown_render(shot: Shot) -> np.ndarray:
    """(H, W, 4) uint8 of it. Raises Problem without one."""
    render = require_render(shot)
    rgb, alpha = render[..., :3], render[..., 3:]
    straight = rgb / np.maximum(alpha, 1e-6)
    solid = (np.clip(alpha, 0, 1) * 255 + 0.5).astype(np.uint8)
    return np.concatenate([maps.shown(straight), solid], axis=2)


def both_with_look(shot: Shot) -> np.ndarray:
    """(h, w, 3) uint8 the render over the plate, both with the shot's look. Raises Problem without
    one."""
    render = require_render(shot)
    plate = maps.small_plate(shot)
    size = plate.shape[1::-1]
    render = cv2.resize(render.astype(np.float32), size, interpolation=cv2.INTER_AREA)
    return maps.shown(looks.applied(shot, composite("over", plate, render), perspective=True))


def matched(shot: Shot) -> Matched:
    """What brings the render to the plate. Raises Problem where nothing does."""
    picture = require_render(shot)
    pairs = shot.state["pairs"]
    if not pairs:
        raise Problem("Draw a patch on the plate that the render shows too.")
    plate = maps.small_plate(shot)
    wide = require_plate(shot).width
    seen = [_mean(plate, pair["plate"], wide) for pair in pairs]
    made = [_mean(picture, pair["render"], wide) for pair in pairs]
    return match_patches(np.array(seen), np.array(made))


def _mean(linear: np.ndarray, box: list[float], wide: int) -> np.ndarray:
    """(3,) the mean of a patch; `box` in px of a plate so many px wide. What is clear doesn't
    count."""
    scale = linear.shape[1] / wide
    left, top, right, bottom = (side * scale for side in box)
    grown = (left, top, max(right, left + 2), max(bottom, top + 2))
    colours = patch_of(linear, grown).reshape(-1, 3).astype(float)
    if linear.shape[2] < 4:
        return colours.mean(axis=0)
    alpha = patch_of(np.repeat(linear[..., 3:], 3, axis=2), grown).reshape(-1, 3)[:, 0]
    if alpha.sum() < 0.25 * len(alpha):
        raise Problem("A patch lies where the render shows nothing: draw its place on the render.")
    return colours.sum(axis=0) / alpha.sum()


def add_pair(shot: Shot, box: list[float], base: int | None) -> Shot:
    """A patch of the plate, that the render shows at the same place until another one is drawn."""

    def change(state):
        taken = {pair["id"] for pair in state["pairs"]}
        id_ = next(f"q{n}" for n in range(1, 1000) if f"q{n}" not in taken)
        state["pairs"] = [*state["pairs"], {"id": id_, "plate": box, "render": box}]

    return edit(shot, "Pair of patches", change, base)


def move_pair(shot: Shot, id_: str, box: list[float] | None, base: int | None) -> Shot:
    """Where the render shows a pair's surface; None takes the pair away. Raises Problem where it is
    gone."""
    if id_ not in {pair["id"] for pair in shot.state["pairs"]}:
        raise Problem("That pair is gone.")

    def change(state):
        kept = [pair for pair in state["pairs"] if pair["id"] != id_ or box is not None]
        state["pairs"] = [pair | {"render": box} if pair["id"] == id_ else pair for pair in kept]

    return edit(shot, "Patch of the render" if box else "Pair removed", change, base)

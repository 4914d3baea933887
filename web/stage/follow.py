"""Stand-ins and typed cameras go along when the world of the match is turned or shifted."""

from collections.abc import MutableMapping

import numpy as np

from aperture.camera import Camera
from aperture.scene.frustum import from_json, to_json
from web.stage.ways import carried


def follow_world(state: MutableMapping, turn, shift) -> None:
    """Turn (3, 3) and shift (3,) metres what the Set step keeps in world coordinates, in place."""
    motion = np.eye(4)
    motion[:3, :3], motion[:3, 3] = turn, shift
    state["stand_ins"] = [carried(item, motion) for item in state.get("stand_ins", [])]
    for item in state.get("cameras", []):
        camera = from_json(item)
        pose = np.eye(4)
        pose[:3, :3], pose[:3, 3] = turn @ camera.rotation, turn @ camera.position + shift
        item |= to_json(Camera(camera.grid, camera.lens, pose))
    card = state.get("card") or {}
    if card.get("left"):  # the plate card's corners, where it was left in space
        corners = np.array(card["left"], float) @ np.asarray(turn).T + shift
        state["card"] = card | {"left": np.round(corners, 6).tolist()}

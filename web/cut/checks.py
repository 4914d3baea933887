"""What looks wrong from one clip of a cut to the next, and in the show as a whole."""

import math
from collections.abc import Mapping
from itertools import pairwise

import numpy as np

from aperture.camera import Camera
from web.cut import actions
from web.match.path_fits import camera_of_state
from web.shows.models import Shot, Show
from web.stage.stand_ins import stand_ins_of
from web.ui.rows import Remark

# Common practice, no source: a lens within so much of the last one looks like a mistake, a camera
# that is so much higher or lower between two clips that show the same jumps, and one that turns by
# less than 30° between them does too.
SAME_LENS, LITTLE_LENS = 0.01, 0.15
JUMP_M, THIRTY_DEGREES = 0.5, 30.0
MOST = 12


def remarks_of(show: Show, by_key: Mapping[int, Shot]) -> list[Remark]:
    """What is seen over the cuts of a show and its shots, in their order."""
    shots = {shot.code: shot for shot in by_key.values()}
    cut = actions.cut_of(show, by_key)
    clips = [cut.clips[index] for index in cut.row]
    seen = {
        clip.id: (_camera(shots[clip.shot], clip.first), _camera(shots[clip.shot], clip.last))
        for clip in clips
    }
    out: list[Remark] = []
    for before, after in pairwise(clips):
        if before.shot == after.shot:
            continue
        first, second = seen[before.id][1], seen[after.id][0]
        if first is None or second is None:
            continue
        told = f"{before.shot} → {after.shot}"
        out += _lens(told, first, second) + _line(
            told, shots[before.shot], shots[after.shot], first, second
        )
        out += _jump(told, first, second)
    for shot in shots.values():
        if shot.state["plate"] and shot.code not in {clip.shot for clip in cut.clips}:
            out.append(
                Remark("A camera that is nobody’s", f"{shot.code} isn’t in the cut.", "note")
            )
    return out[:MOST]


def _camera(shot: Shot, frame: int) -> Camera | None:
    return camera_of_state(shot.state, frame if shot.state["film"] else None)


def _lens(told: str, first: Camera, second: Camera) -> list[Remark]:
    one, other = first.lens.focal_mm, second.lens.focal_mm
    apart = abs(math.log(one / other))
    if (
        first.lens.projection.around
        or second.lens.projection.around
        or not SAME_LENS < apart < LITTLE_LENS
    ):
        return []
    says = f"{told}: {one:.1f} mm and {other:.1f} mm differ by little: was the same lens meant?"
    return [Remark("Focal lengths", says, "note")]


def _jump(told: str, first: Camera, second: Camera) -> list[Remark]:
    """Cameras that stand close to each other, look about the same way, and differ in height."""
    if np.linalg.norm((first.position - second.position)[[0, 2]]) > 4 * JUMP_M:
        return []
    turn = math.degrees(
        math.acos(float(np.clip(first.rotation[:, 2] @ second.rotation[:, 2], -1, 1)))
    )
    rise = float(second.position[1] - first.position[1])
    if turn > THIRTY_DEGREES or abs(rise) < JUMP_M:
        return []
    way = "higher" if rise > 0 else "lower"
    return [
        Remark(
            "Height",
            f"{told}: the camera is {abs(rise):.2f} m {way}, and looks about the same way.",
            "doubt",
        )
    ]


def _line(told: str, before: Shot, after: Shot, first: Camera, second: Camera) -> list[Remark]:
    """The line of action goes through the two figures, or largest things, that both clips show: a
    camera on its other side swaps them."""
    one, other = stand_ins_of(before.state), stand_ins_of(after.state)
    common = [name for name in one if name in other and one[name].kind != "plane"]
    common.sort(key=lambda name: (one[name].kind != "figure", -float(np.prod(one[name].size))))
    if len(common) < 2:
        return []
    pair = common[:2]
    sides = []
    for camera, items in ((first, one), (second, other)):
        a, b = (np.asarray(items[name].base, float) for name in pair)
        if not all(
            np.isfinite(
                camera.project(np.array([[p[0], p[1] + 0.5, p[2]] for p in (a, b)]))
            ).ravel()
        ):
            return []
        along, away = (b - a)[[0, 2]], (camera.position - a)[[0, 2]]
        sides.append(float(along[0] * away[1] - along[1] * away[0]))
    if sides[0] * sides[1] >= 0:
        return []
    says = f"{told}: the camera crosses the line between {pair[0]} and {pair[1]}: they swap sides."
    return [Remark("Line of action", says, "doubt")]

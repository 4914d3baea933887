"""What a clip shows on a frame: the plate, the newest render over it, or a drawing of the set;
through the matched camera, or one that was typed."""

import io
import math
from dataclasses import replace
from functools import lru_cache

import numpy as np
from PIL import Image

from aperture.cut.between import between
from aperture.cut.cut import Clip, Layer
from aperture.errors import Problem
from aperture.plates.colour import encode_srgb
from aperture.render import compose
from aperture.render.passes import Wanted, render
from aperture.render.tracer import Look
from web.lineup.snapshots import picture_in
from web.match.path_fits import camera_of_state
from web.plates.frames import frames_now, number_of, shifted_since
from web.plates.full_frames import linear_frame
from web.plates.models import linear_plate, plate_of
from web.shows.models import Shot
from web.stage.cameras import MATCHED, camera_called
from web.stage.stand_ins import shown, with_way

WHATS = {"plate": "the plates", "over": "renders over the plates", "drawing": "drawings of the set"}
SMALL = 960  # px across of a picture on the page
PAPER, INK = 0.9, 0.02  # linear light of a drawing
LINE_SAMPLES, DARKER = 3, 2.0  # a line is about a pixel wide, and lies between two
Size = tuple[int, int]


def light(shot: Shot, clip: Clip, layer: Layer, what: str, size: Size) -> np.ndarray:
    """(H, W, 3) linear light of a clip's picture, fitted into (width, height) px."""
    whole = math.floor(layer.frame)
    first = _fitted(shot.pk, shot.head_id, whole, _what(clip, what), clip.camera, size)
    share = layer.frame - whole
    if share < 1e-6 or not shot.state["film"]:
        return first
    last = clip.last if clip.most is None else clip.most
    second = _fitted(
        shot.pk, shot.head_id, min(whole + 1, last), _what(clip, what), clip.camera, size
    )
    return between(first, second, share, clip.between)


def _what(clip: Clip, what: str) -> str:
    """Through another camera than the matched one there is no plate."""
    return "drawing" if clip.camera else what


def jpeg(shot: Shot, frame: int, what: str, camera: str) -> bytes:
    """A small picture of a frame, for the page. Raises Problem where there is no such kind or
    camera."""
    if what not in WHATS:
        raise Problem(f"A cut shows {', or '.join(WHATS.values())}.")
    plate = shot.state["plate"]
    size = (
        (SMALL, max(2, round(SMALL * plate["height"] / plate["width"]))) if plate else (SMALL, 540)
    )
    seen = _fitted(shot.pk, shot.head_id, frame, "drawing" if camera else what, camera, size)
    out = io.BytesIO()
    display = (encode_srgb(np.clip(seen, 0, 1)) * 255 + 0.5).astype(np.uint8)
    Image.fromarray(display, "RGB").save(out, "JPEG", quality=85)
    return out.getvalue()


@lru_cache(8)
def _fitted(pk: int, head: int, frame: int, what: str, camera: str, size: Size) -> np.ndarray:
    """By the revision, so that what was edited is seen."""
    import cv2

    shot = Shot.objects.with_head().get(pk=pk)
    if what == "drawing":
        return _drawing(shot, frame, camera, size)
    out = np.zeros((size[1], size[0], 3), np.float32)
    if plate_of(shot) is None:
        return out
    try:
        seen = (
            linear_frame(shot, number_of(shot.state, frame))
            if shot.state["film"]
            else linear_plate(shot)
        )
    except Problem:
        return out  # a frame that can't be read is black
    if what == "over":
        seen = _with_render(shot, frame, seen)
    scale = min(size[0] / seen.shape[1], size[1] / seen.shape[0])
    inner = max(1, round(seen.shape[1] * scale)), max(1, round(seen.shape[0] * scale))
    small = cv2.resize(np.ascontiguousarray(seen, np.float32), inner, interpolation=cv2.INTER_AREA)
    left, top = (size[0] - inner[0]) // 2, (size[1] - inner[1]) // 2
    out[top : top + inner[1], left : left + inner[0]] = small
    return out


def _with_render(shot: Shot, frame: int, plate: np.ndarray) -> np.ndarray:
    """The newest render of a frame over its plate, ours or one brought back; the plate where there
    is none of its size."""
    rows = [*[one for one in shot.renders.all()[:20] if one.whole], *shot.returned.all()[:20]]
    for row in sorted(rows, key=lambda one: one.created, reverse=True):
        if shot.state["film"] and frame not in frames_now(shot.state, row):
            continue
        folder = row.of_frame(frame - shifted_since(shot.state, row))
        if not (folder / "render.exr").exists():
            continue
        render = picture_in(folder)
        if render.shape[:2] == plate.shape[:2]:
            return compose.composite("over", plate, render)
    return plate


def _drawing(shot: Shot, frame: int, camera_id: str, size: Size) -> np.ndarray:
    """(H, W, 3) linear: outlines and creases of the stand-ins on paper, what lies behind others
    hidden; empty paper where there is no camera.
    """
    out = np.full((size[1], size[0], 3), PAPER, np.float32)
    camera = camera_of_state(shot.state, frame if shot.state["film"] else None)
    if camera_id and camera_id != MATCHED:
        found = camera_called(shot, camera_id)
        camera = found.camera if found else None
    items = shown(shot.state)
    if camera is None or not items:
        return out
    scale = min(size[0] / camera.grid.width, size[1] / camera.grid.height)
    wide, high = (max(1, round(side * scale)) for side in (camera.grid.width, camera.grid.height))
    small = replace(camera, grid=camera.grid.resize(wide, high))
    scene = [(with_way(shot.state, item).at(frame), Look(item["name"])) for item in items]
    made = render(small, scene, Wanted(("lines",), samples=LINE_SAMPLES))
    left, top = (size[0] - wide) // 2, (size[1] - high) // 2
    share = np.minimum(1, DARKER * made.layers["lines"][..., :1])
    out[top : top + high, left : left + wide] = PAPER + (INK - PAPER) * share
    return out

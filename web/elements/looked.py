"""A render's beauty with the shot's look: a copy that is asked for; the render itself stays as it
is."""

import tempfile
from pathlib import Path

import numpy as np

from aperture.render.files import write_exr
from aperture.render.passes import Render as Made
from aperture.render.returned import read
from web.elements.models import Render
from web.expose import looks, maps
from web.plates.frames import shifted_since
from web.shows.models import Shot

NAME, TITLE = "with-look.png", "Beauty with the look"


def looked(shot: Shot, render: Render, frame: int | None) -> np.ndarray:
    """(H, W, 4) linear, premultiplied: the beauty with the look; its alpha stays."""
    rgba = read(render.of_frame(frame) / "render.exr").rgba
    at = None
    if render.frames:
        own = frame if frame in render.frames else render.frames[0]
        at = own + shifted_since(shot.state, render)
    rgb = looks.applied(shot, rgba[..., :3], at)
    return np.concatenate([rgb, rgba[..., 3:]], axis=2).astype(np.float32)


def as_exr(rgba: np.ndarray) -> bytes:
    """As an EXR of four channels."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "look.exr"
        write_exr(path, Made({"beauty": rgba}, []))
        return path.read_bytes()


def as_png(rgba: np.ndarray) -> bytes:
    """Over black, as a screen wants it."""
    return maps.png(maps.shown(rgba[..., :3]))

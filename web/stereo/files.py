"""What goes out in stereo: both cameras over the frames, and renders of both eyes packed into one picture."""

import json
import tempfile
import zipfile
from pathlib import Path

import numpy as np
from PIL import Image
from PIL.PngImagePlugin import PngInfo

from aperture.errors import Problem
from aperture.formats import usd
from aperture.plates.colour import encode_srgb
from aperture.plates.exr import write_channels
from aperture.render import returned
from aperture.stereo.packing import KINDS, SAYS, packed
from web.elements.actions import EYES
from web.elements.models import Render
from web.handoff.cameras import cameras_by_frame
from web.handoff.contents import stand_ins_going
from web.plates.models import frame_of
from web.shows.models import Shot
from web.stereo.settings import pair_of


def write_cameras(shot: Shot, path: Path) -> None:
    """A zip of both cameras as OpenUSD over all frames, and their figures as JSON. Raises Problem without a pair."""
    cameras = cameras_by_frame(shot)
    pairs = {frame: pair_of(shot, frame) for frame in cameras}
    if None in pairs.values():
        raise Problem("Type both distances first.")
    eyes = {frame: pairs[frame].cameras(camera) for frame, camera in cameras.items()}
    now = frame_of(shot) if frame_of(shot) in eyes else min(eyes)
    told = {
        "format": "accurate-aperture/stereo",
        "version": 1,
        "shot": shot.code,
        "frames": {
            str(frame): {
                "interaxial_m": pair.interaxial_m,
                "convergence_m": pair.convergence_m,
                "mode": pair.mode,
                "centre_mm": [list(eye.lens.centre_mm) for eye in eyes[frame]],
            }
            for frame, pair in pairs.items()
        },
    }
    with (
        tempfile.TemporaryDirectory() as folder,
        zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as files,
    ):
        for index, name in enumerate(EYES):
            stage = Path(folder) / f"{name}.usda"
            usd.write(
                stage,
                usd.Shown(eyes[now][index]),
                stand_ins_going(shot),
                shot.show.up_axis,
                now,
                shot.show.rate,
                f"{shot.code}_{name}",
                f"{shot.show.name}, {shot.code}, {name} eye",
                path_of_camera={frame: both[index] for frame, both in eyes.items()},
            )
            files.write(stage, stage.name)
        files.writestr("stereo.json", json.dumps(told, indent=1))


def eyes_of(shot: Shot) -> tuple[Render, Render] | None:
    """The newest renders of the left and the right eye that were made alike; None where there are none."""
    newest: dict[str, Render] = {}
    for row in shot.renders.all()[:40]:
        eye = row.wanted.get("eye")
        if eye and eye not in newest:
            newest[eye] = row
    left, right = (newest.get(eye) for eye in EYES)
    if left is None or right is None:
        return None
    alike = (left.width, left.height, left.digest) == (right.width, right.height, right.digest)
    return (left, right) if alike else None


def write_packed(shot: Shot, kind: str, path: Path, frame: int | None = None) -> None:
    """The newest renders of both eyes as one picture, PNG or EXR by the path. Raises Problem where there are none."""
    if kind not in KINDS:
        raise Problem("There is no such way to pack two pictures.")
    rows = eyes_of(shot)
    if rows is None:
        raise Problem(
            "Render both eyes first; renders of the left and the right one that are alike are packed."
        )
    left, right = (returned.read(row.of_frame(frame) / "render.exr").rgba for row in rows)
    made = packed(left, right, kind)
    says = {"stereo": SAYS[kind]}
    if path.suffix == ".exr":
        channels = {
            "RGBA"[index]: made[..., index].astype(np.float16) for index in range(made.shape[2])
        }
        write_channels(path, channels, says)
        return
    alpha = np.clip(made[..., 3:], 0, 1)
    colour = np.where(alpha > 0, made[..., :3] / np.maximum(alpha, 1e-6), 0)
    values = np.concatenate([encode_srgb(np.clip(colour, 0, 1)), alpha], axis=-1)
    info = PngInfo()
    info.add_text("Description", f"Stereo: {SAYS[kind]}")
    Image.fromarray((values * 255 + 0.5).astype(np.uint8), "RGBA").save(path, pnginfo=info)

"""What goes out in stereo: both cameras over the frames, and renders of both eyes packed into one
picture."""

import json
import tempfile
import zipfile
from dataclasses import asdict
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
from web.plates.frames import is_pair, shifted_since
from web.plates.models import frame_of
from web.shows.models import Shot
from web.stereo import plates
from web.stereo.settings import pair_of


def write_cameras(shot: Shot, path: Path) -> None:
    """A zip of both cameras as OpenUSD over all frames, and their figures as JSON. Raises Problem
    without a pair."""
    eyes, told_of = _eyes(shot)
    now = frame_of(shot) if frame_of(shot) in eyes else min(eyes)
    told = {
        "format": "accurate-aperture/stereo",
        "version": 1,
        "shot": shot.code,
        "frames": {
            str(frame): (
                told_of[frame] | {"centre_mm": [list(eye.lens.centre_mm) for eye in eyes[frame]]}
            )
            for frame in eyes
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


def _eyes(shot: Shot) -> tuple[dict, dict]:
    """By frame, both eyes' cameras, and what is told of them. Raises Problem without a pair."""
    if is_pair(shot.state):
        eyes, found = plates.solved_eyes(shot), plates.solved(shot)
        if eyes is None or found is None:
            raise Problem("Match both eyes first: follow points from one to the other, and solve.")
        first, _ = plates.frames_of(shot)
        return {first: eyes}, {first: {"mode": "solved"} | asdict(found)}
    cameras = cameras_by_frame(shot)
    known = {frame: pair_of(shot, frame) for frame in cameras}
    pairs = {frame: pair for frame, pair in known.items() if pair is not None}
    if len(pairs) < len(cameras):
        raise Problem("Type both distances first.")
    told = {
        frame: {
            "interaxial_m": pair.interaxial_m,
            "convergence_m": pair.convergence_m,
            "mode": pair.mode,
        }
        for frame, pair in pairs.items()
    }
    return {frame: pairs[frame].cameras(camera) for frame, camera in cameras.items()}, told


def _of_plate(shot: Shot) -> list[Path] | None:
    """The folders of a stereo plate's newest renders, left and right; None where there are none."""
    frames = plates.frames_of(shot)
    for row in shot.renders.all()[:40]:
        if row.frames and row.whole:
            now = [frame - shifted_since(shot.state, row) for frame in frames]
            if row.frames[0] <= now[0] and now[1] <= row.frames[-1]:
                return [row.of_frame(frame) for frame in now]
    return None


def has_both(shot: Shot) -> bool:
    """Whether there are renders of both eyes to pack."""
    return bool(_of_plate(shot) if is_pair(shot.state) else eyes_of(shot))


def eyes_of(shot: Shot) -> tuple[Render, Render] | None:
    """The newest renders of the left and the right eye that were made alike; None where there are
    none."""
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
    """The newest renders of both eyes as one picture, PNG or EXR by the path. Raises Problem where
    there are none."""
    if kind not in KINDS:
        raise Problem("There is no such way to pack two pictures.")
    if is_pair(shot.state):
        folders = _of_plate(shot)
    else:
        rows = eyes_of(shot)
        folders = rows and [row.of_frame(frame) for row in rows]
    if not folders:
        raise Problem(
            "Render both eyes first; renders of the left and the right one that are alike are"
            " packed."
        )
    left, right = (returned.read(folder / "render.exr").rgba for folder in folders)
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

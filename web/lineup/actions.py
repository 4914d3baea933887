"""Render the stand-ins through the matched camera."""

import hashlib
import json
import os
import shutil
import tempfile
import time
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import transaction

from aperture.errors import Problem
from web.jobs import runner
from web.jobs.models import Job
from web.lineup.models import Render
from web.match.fits import camera_of_state, digest_of, document_of
from web.stage.stand_ins import stand_ins_of

KIND = "line-up render"


def source_digest(state: dict) -> str:
    """What a render depends on: the match document and the stand-ins that are shown."""
    document = document_of(state)
    text = json.dumps([digest_of(document) if document else "", state["stand_ins"]], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()


def start_render(shot) -> Job:
    """Begin a render of the shot as it stands. Raises Problem without a camera or stand-ins, or while one runs."""
    work = _work(shot)
    running = runner.latest(shot, KIND)
    if running and running.state == Job.RUNNING:
        raise Problem("A render of this shot is running already.")
    return runner.start(shot, KIND, work)


def render_now(shot) -> None:
    """Render the shot as it stands, and wait for it."""
    _work(shot)(lambda done: None)


def _work(shot):
    camera, stand_ins = camera_of_state(shot.state), stand_ins_of(shot.state)
    if camera is None:
        raise Problem("There is no camera to render through yet: match the plate and place the origin first.")
    if not stand_ins:
        raise Problem("There is nothing to render yet: place a stand-in on the Set step.")
    digest, revision = source_digest(shot.state), shot.head.number
    return (lambda progress: _render(shot, camera, list(stand_ins.values()), digest, revision, progress))


def _render(shot, camera, stand_ins, digest, revision, progress):
    from PIL import Image

    from aperture.render.stand_ins import render_stand_ins, write_exr, write_png

    began = time.monotonic()
    home = settings.DATA / "renders"
    home.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="incoming-", dir=home))
    try:
        render = render_stand_ins(camera, stand_ins, progress=lambda done: progress(done * 0.9))
        write_png(folder / "render.png", render)
        write_exr(folder / "render.exr", render)
        Image.fromarray((np.clip(render.rgba[..., 3], 0, 1) * 255 + 0.5).astype(np.uint8), "L").save(folder / "alpha.png")
        for path in folder.iterdir():
            with open(path, "rb+") as file:
                os.fsync(file.fileno())
        folder.chmod(0o755)
        with transaction.atomic():
            row = Render.objects.create(shot=shot, digest=digest, revision=revision, width=camera.grid.width, height=camera.grid.height,
                                        seconds=time.monotonic() - began)
            shutil.rmtree(row.folder, ignore_errors=True)
            folder.rename(row.folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)

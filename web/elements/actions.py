"""Render the stand-ins through the matched camera."""

import hashlib
import json
import time
from dataclasses import asdict, dataclass, replace

import numpy as np
from django.conf import settings
from django.db import transaction

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.render.passes import PASSES, Wanted
from aperture.render.tracer import Light, Look
from web.elements import tasks
from web.elements.models import Render
from web.jobs import runner
from web.jobs.models import Job
from web.match.fits import camera_of_state, digest_of, document_of
from web.plates.models import plate_of
from web.stage.stand_ins import extra, named, shown, stand_in_from
from web.ui.folders import incoming, settle

KIND = "render"
SIZES = {"plate": "The plate’s", "half": "Half the plate’s", "quarter": "A quarter of the plate’s"}


@dataclass(frozen=True)
class Order:
    """What the artist asks for. overscan: percent of the picture's size on every side; region: left, top, right, bottom px of
    the render, outside which nothing is traced."""

    passes: tuple[str, ...] = ()
    samples: int = 3
    size: str = "plate"
    overscan: float = 0.0
    occlusion_m: float = 1.0
    region: tuple[int, int, int, int] | None = None
    light: Light = Light()

    def camera(self, camera: Camera) -> Camera:
        """The camera with the grid that is asked for."""
        grid, divided = camera.grid, {"half": 2, "quarter": 4}.get(self.size, 1)
        if self.overscan:
            across, down = (round(side * self.overscan / 100) for side in (grid.width, grid.height))
            grid = grid.overscan(across, across, down, down)
        if divided > 1:
            grid = grid.resize(max(1, round(grid.width / divided)), max(1, round(grid.height / divided)))
        return replace(camera, grid=grid)

    def json(self) -> dict:
        """As it is kept beside its render."""
        return asdict(self) | {"passes": list(self.passes), "region": list(self.region) if self.region else None}

    @classmethod
    def from_json(cls, kept: dict) -> "Order":
        """What was kept; what it doesn't say is as usual."""
        light = {name: tuple(value) if isinstance(value, list) else value for name, value in kept.get("light", {}).items()}
        rest = {name: value for name, value in kept.items() if name not in ("light", "passes", "region")}
        region = tuple(kept["region"]) if kept.get("region") else None
        return cls(**rest, passes=tuple(kept.get("passes", ())), region=region, light=Light(**light))


def source_digest(state: dict) -> str:
    """What a render depends on: the match document and the stand-ins that are shown."""
    document = document_of(state)
    text = json.dumps([digest_of(document) if document else "", [{key: value for key, value in item.items() if key not in ("locked", "parent", "hidden")}
                                                                 for item in shown(state)]], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()


def start_render(shot, order: Order | None = None) -> Job:
    """Begin a render of the shot as it stands. Raises Problem without a camera or stand-ins, or while one runs."""
    order = order or Order()
    _work(shot, order)
    running = runner.latest(shot, KIND)
    if running and running.under_way:
        raise Problem("A render of this shot is running already.")
    return runner.start(shot, KIND, tasks.render, shot.pk, shot.head.number, order.json())


def render_now(shot, order: Order | None = None, progress=lambda done: None) -> None:
    """Render the shot as it stands, and wait for it. `progress(done)` is called with 0 … 1 and may raise to stop."""
    _work(shot, order or Order())(progress)


def _work(shot, order):
    camera, items = camera_of_state(shot.state), named(shot.state)
    if camera is None:
        raise Problem("There is no camera to render through yet: match the plate and place the origin first.")
    if not items:
        raise Problem("There is nothing to render yet: place a stand-in on the Set step.")
    scene = [(stand_in_from(item), Look(name, extra(item, "material"), extra(item, "checker_m"), extra(item, "part_of_plate"))) for name, item in items.items()]
    digest, revision, plate = source_digest(shot.state), shot.head.number, plate_of(shot)
    return (lambda progress: _render(shot, camera, scene, order, plate, digest, revision, progress))


def _render(shot, camera, scene, order, plate, digest, revision, progress):
    from aperture.plates.colour import encode_srgb
    from aperture.render.files import write_exr, write_grey, write_looks, write_png
    from aperture.render.passes import render

    began = time.monotonic()
    with incoming(settings.DATA / "renders") as folder:
        through = order.camera(camera)
        worn = linear_plate(plate) if any(look.material == "plate" for _, look in scene) else None
        wanted = Wanted(tuple(name for name in PASSES if name in order.passes), order.samples, order.occlusion_m, light=order.light, region=order.region)
        made = render(through, scene, wanted, worn, camera, progress=lambda done: progress(done * 0.9))
        write_png(folder / "render.png", made)
        write_exr(folder / "render.exr", made)
        write_grey(folder / "alpha.png", made.rgba[..., 3])
        looks = write_looks(folder, made)
        if "shadow" in made.layers:  # what is left of the plate's light, as the page can multiply it
            write_grey(folder / "shade.png", encode_srgb(1 - made.layers["shadow"]))
        with transaction.atomic():
            row = Render.objects.create(shot=shot, digest=digest, revision=revision, width=through.grid.width, height=through.grid.height,
                                        seconds=time.monotonic() - began, wanted=order.json(), looks=looks)
            settle(folder, row.folder)


def linear_plate(plate) -> np.ndarray:
    """(H, W, 3) float32, the plate as it is shown, made linear."""
    from aperture.plates.colour import decode_srgb

    return decode_srgb(np.load(plate.folder / "pixels.npy")[..., :3] / 255).astype(np.float32)

"""Render the stand-ins through the matched camera."""

import hashlib
import json
import time
from collections.abc import Callable, MutableMapping
from dataclasses import asdict, dataclass, replace
from typing import Any

from django.conf import settings
from django.db import transaction

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.gates.chain import Chain
from aperture.geometry.grid import Grid
from aperture.render.exposed import Blur
from aperture.render.passes import PASSES, Wanted
from aperture.render.tracer import Light, Look
from aperture.stereo.pair import Pair
from web.blobs.folders import incoming, settle
from web.elements.models import Render
from web.expose.blurring import blur_of, exposed_item
from web.gates.gate import bent_chain, chain_on
from web.match.fits import digest_of, document_of
from web.match.path_fits import camera_of_state, served
from web.plates.frames import shifted_since
from web.plates.models import frame_of, linear_plate, plate_of
from web.stage.stand_ins import extra, named, what_stands, with_way

KIND = "render"
SIZES = {"plate": "The plate’s", "half": "Half the plate’s", "quarter": "A quarter of the plate’s"}
GRID = "grid:"  # before the key of one of the gate chain's grids
MOST_FRAMES = 2000
EYES = ("left", "right")
MOST_PIXELS = 150_000_000


@dataclass(frozen=True)
class Order:
    """What the artist asks for. size: a key of SIZES, or GRID and the key of one of the gate
    chain's grids; overscan: percent of the picture's size on every side; region: left, top, right,
    bottom px of the render, outside which nothing is traced; frames: first and last, None for a
    still. depth, motion, exposed: whether the lens's depth of field, the shutter's blur and the
    exposure against the plate's are in it, as the Expose step has them. eye: of a stereo pair, one
    of EYES."""

    passes: tuple[str, ...] = ()
    samples: int = 3
    size: str = "plate"
    overscan: float = 0.0
    occlusion_m: float = 1.0
    region: tuple[int, int, int, int] | None = None
    light: Light = Light()
    frames: tuple[int, int] | None = None
    depth: bool = False
    motion: bool = False
    exposed: bool = False
    eye: str = ""

    def camera(self, camera: Camera, chain: Chain | None = None) -> Camera:
        """The camera with the grid that is asked for. Raises Problem where the chain has it no
        more, or it is too large.
        """
        if self.size.startswith(GRID):
            stages = chain.stages if chain and chain.lens else ()
            keys = [stage.key for stage in stages]
            at = keys.index(wanted) if (wanted := self.size[len(GRID) :]) in keys else None
            if chain is None or at is None:
                raise Problem(
                    "The gate chain no longer has this grid: choose another size.", "size"
                )
            own = chain.camera(at)
            # The chain has one lens, which a zoom changes from frame to frame.
            lens = replace(own.lens, focal_mm=camera.lens.focal_mm)
            # A panorama that the chain turns is looked at along the turn.
            pose = camera.world_from_camera @ own.world_from_camera
            camera = replace(own, lens=lens, world_from_camera=pose)
        grid, divided = camera.grid, {"half": 2, "quarter": 4}.get(self.size, 1)
        if self.overscan:
            across, down = (round(side * self.overscan / 100) for side in (grid.width, grid.height))
            grid = grid.overscan(across, across, down, down)
        if divided > 1:
            grid = grid.resize(
                max(1, round(grid.width / divided)), max(1, round(grid.height / divided))
            )
        if grid.width * grid.height > MOST_PIXELS:
            raise Problem(
                f"{grid.width} × {grid.height} px are too many for one picture: "
                f"{MOST_PIXELS // 1_000_000} million are the most.",
                "size",
            )
        return replace(camera, grid=grid)

    def json(self) -> dict:
        """As it is kept beside its render."""
        return asdict(self) | {
            "passes": list(self.passes),
            "region": list(self.region) if self.region else None,
            "frames": list(self.frames) if self.frames else None,
        }

    @classmethod
    def from_json(cls, kept: dict) -> "Order":
        """What was kept; what it doesn't say is as usual."""
        light: dict[str, Any] = {
            name: tuple(value) if isinstance(value, list) else value
            for name, value in kept.get("light", {}).items()
        }
        rest: dict[str, Any] = {
            name: value
            for name, value in kept.items()
            if name not in ("light", "passes", "region", "frames", "of_light")
        }
        spans: dict[str, Any] = {
            name: tuple(kept[name]) if kept.get(name) else None for name in ("region", "frames")
        }
        return cls(**rest, **spans, passes=tuple(kept.get("passes", ())), light=Light(**light))


def next_order(shot, before: Render | None) -> Order:
    """How the next render is wanted: as the one before, whose frames may be called otherwise since;
    the first one's frames are those marked.
    """
    if before is None:
        marked = shot.state["range"]
        return Order(frames=tuple(marked)) if marked else Order()
    order = replace(Order.from_json(before.wanted), eye="")
    if order.frames is None:
        return order
    first, last = order.frames
    shift = shifted_since(shot.state, before)
    return replace(order, frames=(first + shift, last + shift))


def source_digest(state: MutableMapping) -> str:
    """What a render depends on: the match document and the stand-ins that are shown."""
    document = document_of(state)
    text = json.dumps(
        [
            digest_of(document) if document else "",
            *([state["path"]["blob"]] if state["path"] else []),
            *([move.key] if (move := served(state)) else []),
            what_stands(state),
        ],
        sort_keys=True,
    )
    return hashlib.sha256(text.encode()).hexdigest()


def grids(shot) -> dict[str, str]:
    """The sizes of a shot's gate chain beside the plate's own: what `Order.size` says, and what it
    is.
    """
    chain, _ = bent_chain(shot.state, plate_of(shot)) if shot.state["gate"] else (None, None)
    if chain is None or chain.lens is None:
        return {}
    return {
        GRID + stage.key: f"{stage.name}, {stage.size_text}"
        for index, stage in enumerate(chain.stages)
        if not stage.unsized and index != chain.plate
    }


def ready(shot, order, frame: int | None = None):
    """The shot's camera on a frame, the one to render through, and what stands there with its
    looks. Raises Problem.
    """
    camera, items = camera_of_state(shot.state, frame), named(shot.state)
    now = frame_of(shot) if frame is None else frame
    if camera is None and frame is not None:
        raise Problem(f"Frame {frame} has no camera: the path wasn't solved there.")
    if camera is None:
        raise Problem(
            "There is no camera to render through yet: match the plate and place the origin first."
        )
    if not items:
        raise Problem("There is nothing to render yet: place a stand-in on the Set step.")
    chain = chain_on(shot, now) if order.size.startswith(GRID) else None
    scene = [
        (
            with_way(shot.state, item).at(now),
            Look(
                name,
                extra(item, "material"),
                extra(item, "checker_m"),
                extra(item, "part_of_plate"),
            ),
        )
        for name, item in items.items()
    ]
    return camera, _of_eye(shot, order, order.camera(camera, chain), now), scene


# Gives the shot's stereo pair on a frame; the app that knows it registers it.
_find_pair: list[Callable[[Any, int | None], Pair | None]] = []


def register_pair(find: Callable[[Any, int | None], Pair | None]) -> None:
    """Add what knows the stereo pairs of shots; called by its app."""
    _find_pair[:] = [find]


def _pair(shot, order: Order, frame: int | None) -> Pair | None:
    """The pair that an order for one eye wants; None of others. Raises Problem where there is
    none."""
    if not order.eye:
        return None
    pair = _find_pair[0](shot, frame) if _find_pair else None
    if pair is None or order.eye not in EYES:
        raise Problem("There is no stereo pair to render one eye of.")
    return pair


def _of_eye(shot, order: Order, camera: Camera, frame: int) -> Camera:
    """The camera of the eye that is wanted; a panorama has one for both, whose rays leave beside
    it."""
    pair = _pair(shot, order, frame)
    if pair is None or camera.lens.projection.wraps:
        return camera
    if camera.lens.projection.around:
        raise Problem("Only equirectangular and cylindrical panoramas are rendered for two eyes.")
    return pair.cameras(camera)[EYES.index(order.eye)]


def render_now(shot, order: Order | None = None, progress=lambda done: None) -> None:
    """Render the shot as it stands, and wait for it. `progress(done)` is called with 0 … 1 and may
    raise to stop.
    """
    order, began = order or Order(), time.monotonic()
    with incoming(_home()) as folder:
        grid, looks = _files(shot, order, folder, progress)
        _keep(shot, order, grid, folder, looks, time.monotonic() - began)


def render_frame(shot, order: Order, frame: int, progress=lambda done: None) -> None:
    """Render one frame of a range into the folder where they gather, unless it is there already,
    from an earlier try.
    """
    place = _gathering(shot, order) / str(frame)
    if place.exists():
        return
    with incoming(_home()) as folder:
        _, looks = _files(shot, order, folder, progress, frame)
        (folder / "looks.json").write_text(json.dumps(looks))
        place.parent.mkdir(exist_ok=True)
        settle(folder, place)


def gather(shot, order: Order) -> None:
    """Make one render of all frames of a range."""
    folder, (first, last) = _gathering(shot, order), order.frames
    looks = json.loads((folder / str(first) / "looks.json").read_text())
    times = [(folder / str(frame)).stat().st_mtime for frame in range(first, last + 1)]
    _keep(
        shot,
        order,
        ready(shot, order)[1].grid,
        folder,
        looks,
        max(times) - min(times),
        first=first,
        last=last,
    )


def _home():
    return settings.DATA / "renders"


def _gathering(shot, order):
    """Thrown away after a day, like all that is incoming, if it is never complete."""
    text = json.dumps([shot.pk, source_digest(shot.state), order.json()], sort_keys=True)
    return _home() / f"incoming-{hashlib.sha256(text.encode()).hexdigest()[:24]}"


def _keep(shot, order, grid, folder, looks, seconds, **frames):
    with transaction.atomic():
        row = Render.objects.create(
            shot=shot,
            digest=source_digest(shot.state),
            revision=shot.head.number,
            width=grid.width,
            height=grid.height,
            seconds=seconds,
            wanted=order.json() | {"of_light": light_digest(shot.state)},
            looks=looks,
            shift=shot.state["shift"],
            **frames,
        )
        settle(folder, row.folder)


def _blur(shot, order: Order, frame: int | None, around: bool) -> Blur | None:
    """Lens, shutter, exposure and eye as far as they are wanted. Raises Problem where one isn't
    known."""
    pair = _pair(shot, order, frame) if around else None
    aside = pair.interaxial_m / 2 * (1 if order.eye == "right" else -1) if pair else 0.0
    if not (order.depth or order.motion or order.exposed):
        return Blur(aside_m=aside) if aside else None
    blur = blur_of(shot, frame, order.depth, order.motion)
    if order.depth and blur.lens is None:
        raise Problem(
            "Depth of field needs a gate, a stop and a focus: see the Expose step.", "depth"
        )
    if order.motion and not blur.open:
        raise Problem("Motion blur needs a shutter: type it on the Expose step.", "motion")
    return replace(blur, aside_m=aside, stops=blur.stops if order.exposed else 0.0)


def light_digest(state: MutableMapping) -> str:
    """What a render with depth, motion or exposure depends on beside the set and the camera."""
    parts = [state[key] for key in ("exposure", "focus", "pupil", "shutter", "readout")]
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()[:24]


def _files(shot, order, folder, progress, frame=None) -> tuple[Grid, list]:
    """Render into a folder; the grid it has, and what there is to look at: [file name, what it is]
    each.
    """
    from aperture.plates.colour import encode_srgb
    from aperture.render.files import write_exr, write_grey, write_looks, write_png
    from aperture.render.passes import render

    camera, through, scene = ready(shot, order, frame)
    if order.motion:
        scene = [(exposed_item(shot.state, item), look) for item, look in scene]
    worn = linear_plate(shot) if any(look.material == "plate" for _, look in scene) else None
    wanted = Wanted(
        tuple(name for name in PASSES if name in order.passes),
        order.samples,
        order.occlusion_m,
        light=order.light,
        region=order.region,
        blur=_blur(shot, order, frame, through.lens.projection.wraps),
    )
    made = render(through, scene, wanted, worn, camera, progress=lambda done: progress(done * 0.9))
    write_png(folder / "render.png", made)
    write_exr(folder / "render.exr", made)
    write_grey(folder / "alpha.png", made.rgba[..., 3])
    looks = write_looks(folder, made)
    if "shadow" in made.layers:  # what is left of the plate's light, as the page can multiply it
        write_grey(folder / "shade.png", encode_srgb(1 - made.layers["shadow"]))
    return through.grid, looks

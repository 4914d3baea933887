"""A shot's panorama cut into ordinary views: which ones, what is written for them, and their
renders joined again."""

import json
import re
import shutil
import tempfile
import zipfile
from pathlib import Path

import numpy as np
from django.conf import settings

from aperture.around.recombine import Seam, recombine, seams
from aperture.around.views import View, checked, cube, unseen
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.fence import Fence
from aperture.formats import usd
from aperture.plates.exr import write_channels
from aperture.render import returned
from aperture.render.passes import Wanted, coverage, render
from aperture.units import exact_number
from web.elements.actions import Order, ready
from web.gates.gate import all_around
from web.lineup.actions import take_in
from web.lineup.models import Returned
from web.match.path_fits import camera_of_state
from web.plates.models import frame_of
from web.shows.history import edit
from web.shows.models import Shot

KIND = "views"
USUAL_SIZE, USUAL_OVERLAP = 1024, 5.0
OWN_SAMPLES = 3
FORMAT, VERSION = "accurate-aperture/views", 1
NO_PANORAMA = (
    "Only a panorama is cut into views: this plate’s gate isn’t an angle all around. "
    "See the Gate step."
)
HOW = """\
How these views become the panorama again

Each view is a plain camera at the same place, without distortion, shift or squeeze. Its gate, focal
length and pose are in views.json and in {name}.usda. Render each one as {name}.exr, in linear
light, with alpha, colours multiplied by it; of a film as {name}.1001.exr and so on.

For each pixel of the panorama of {width} x {height} px ({projection}), with x and y counted from
the upper left corner to the pixel's middle:

  longitude = (x - {width} / 2) / {focal_px:.6f}   (radians, to the right)
  latitude  = {latitude}   (radians, upward)
  d = (cos(latitude) sin(longitude), sin(latitude), -cos(latitude) cos(longitude))

d is in the panorama's own axes. For each view, with R from pan, tilt and roll (Ry Rx Rz), take
v = transpose(R) d; it is seen where v.z < 0 and

  u = width_px / 2 + focal_px * v.x / -v.z,   w = height_px / 2 - focal_px * v.y / -v.z

lie in its picture. Where several views see, mix them by weights that fall to zero at their borders,
and divide by the sum of the weights.
"""

PIECES = """\
How these views become the panorama again

Each view is a plain camera at the same place; gate, focal length and pose are in views.json and in
each view's own .usda. The panorama itself is laid out as a {name}: each of its pieces is such a
camera too.
Render the views as <name>.exr and bring them back here: they are joined on the page of views.
"""


def panorama_of(shot: Shot) -> Camera:
    """The camera of a matched panorama. Raises Problem where the plate is none, or isn't
    matched."""
    if not all_around(shot.state):
        raise Problem(NO_PANORAMA)
    camera = camera_of_state(shot.state)
    if camera is None:
        raise Problem("There is no camera yet: match the panorama and place the origin first.")
    return camera


def views_of(shot: Shot) -> list[View]:
    """The shot's views: its own, or a cube's six."""
    kept = shot.state["views"]
    if kept.get("own"):
        return [View(**view) for view in kept["own"]]
    return cube(kept.get("size", USUAL_SIZE), kept.get("overlap_deg", USUAL_OVERLAP))


def set_cube(shot: Shot, size: int, overlap_deg: float, base: int | None) -> Shot:
    """Cut into a cube's six views. Raises Problem where a value can't be."""
    cube(size, overlap_deg)
    wanted = {"size": size, "overlap_deg": overlap_deg}
    return edit(shot, "Cut into six views", lambda state: state.update(views=wanted), base)


def set_own(shot: Shot, views: list[View], base: int | None) -> Shot:
    """Cut into views of one's own. Raises Problem where there are none, or two of one name."""
    own = {"own": [view.json() for view in checked(views)]}
    return edit(shot, "Cut into views", lambda state: state.update(views=own), base)


# Out
# --------------------------------------------------------------------------------------------------


def described(shot: Shot, over: dict[int, Camera] | None = None) -> dict:
    """The views as JSON: what a renderer has to know, and what joins them again; `over`: of a film,
    the panorama's camera by frame.
    """
    panorama = panorama_of(shot)
    grid, view = panorama.grid, panorama.view
    return {
        "format": FORMAT,
        "version": VERSION,
        "shot": shot.code,
        "frame": frame_of(shot),
        "panorama": {
            "width": grid.width,
            "height": grid.height,
            "projection": panorama.lens.projection.name,
            "across_deg": float(np.degrees(view.horizontal)),
            "down_deg": float(np.degrees(view.vertical)),
            "world_from_camera": panorama.world_from_camera.tolist(),
        },
        "views": [_told(view, view.camera(panorama), over) for view in views_of(shot)],
    }


def _told(view: View, camera: Camera, over: dict[int, Camera] | None) -> dict:
    frames = {
        str(frame): view.camera(one).world_from_camera.tolist()
        for frame, one in (over or {}).items()
    }
    return view.json() | {
        "file": f"{view.name}.<frame>.exr" if over else f"{view.name}.exr",
        "frames": frames,
        "gate_mm": list(camera.grid.gate_mm),
        "focal_mm": camera.lens.focal_mm,
        "focal_px": camera.focal_px[0],
        "world_from_camera": camera.world_from_camera.tolist(),
    }


def write_zip(shot: Shot, path: Path) -> None:
    """The cameras as OpenUSD, a stage for each view over all frames, and as JSON; and in words how
    their renders are joined."""
    from web.handoff.cameras import over_frames
    from web.handoff.contents import stand_ins_going

    panorama = panorama_of(shot)
    over = over_frames(shot, panorama)
    with tempfile.TemporaryDirectory() as folder:
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as files:
            for view in views_of(shot):
                stage = Path(folder) / f"{_plain(view.name)}.usda"
                by_frame = {frame: view.camera(camera) for frame, camera in (over or {}).items()}
                usd.write(
                    stage,
                    usd.Shown(view.camera(panorama)),
                    stand_ins_going(shot),
                    shot.show.up_axis,
                    frame_of(shot),
                    shot.show.rate,
                    view.name,
                    f"{shot.show.name}, {shot.code}: a view of a panorama",
                    path_of_camera=by_frame or None,
                )
                files.write(stage, stage.name)
            files.writestr("views.json", json.dumps(described(shot, over), indent=1))
            files.writestr("how-to-join.txt", _how(panorama))


def _plain(name: str) -> str:
    """A view's name as part of a file's."""
    return re.sub(r"[^A-Za-z0-9_-]+", "-", name) or "view"


def _how(panorama: Camera) -> str:
    if not panorama.lens.projection.wraps:
        return PIECES.format(name=panorama.lens.projection.name)
    grid, focal = panorama.grid, panorama.focal_px[1]
    below = f"({grid.height} / 2 - y) / {focal:.6f}"
    name = panorama.lens.projection.name
    return HOW.format(
        name="<name>",
        width=grid.width,
        height=grid.height,
        projection=name,
        focal_px=panorama.focal_px[0],
        latitude=below if name == "equirectangular" else f"atan({below})",
    )


# Back
# --------------------------------------------------------------------------------------------------


def view_of_file(name: str, views: list[View]) -> View | None:
    """The view that a file's name has as a word of its own: front.exr, render_front.0001.exr."""
    words = re.split(r"[^a-z0-9]+", Path(name).stem.lower())
    for view in sorted(views, key=lambda view: -len(view.name)):
        own = [word for word in re.split(r"[^a-z0-9]+", view.name.lower()) if word]
        if any(words[i : i + len(own)] == own for i in range(len(words) - len(own) + 1)):
            return view
    return None


def sorted_out(names: list[str], views: list[View]) -> dict[str, str]:
    """Which file is of which view, by the views' names. Raises Problem where one is missing, double
    or unknown."""
    found: dict[str, str] = {}
    for name in names:
        view = view_of_file(name, views)
        if view is None:
            known = ", ".join(view.name for view in views)
            raise Problem(
                f"“{name[:60]}” is of no view: its name has to have one of {known}.", "files"
            )
        if view.name in found:
            raise Problem(
                f"“{found[view.name][:60]}” and “{name[:60]}” are both of {view.name}.", "files"
            )
        found[view.name] = name
    missing = [view.name for view in views if view.name not in found]
    if missing:
        raise Problem(f"A render is missing: {', '.join(missing)}.", "files")
    return found


def join(shot: Shot, folder: str, progress=lambda done: None) -> Returned:
    """Join the renders that wait in a folder, named frame_view by the views' numbers (still_view
    where there is one frame), and take the panorama in.

    Raises Problem where they can't be joined; the folder is gone either way.
    """
    place, views = settings.DATA / "returned" / folder, views_of(shot)
    try:
        files: dict[str, dict[int, Path]] = {}
        for path in place.iterdir():
            frame, which = path.stem.split("_")
            files.setdefault(frame, {})[int(which)] = path
        made = _Made(views)
        with Fence() as fence:
            for done, (frame, own) in enumerate(sorted(files.items())):
                progress(0.8 * done / len(files))
                panorama, _, scene = _ready(shot, None if frame == "still" else int(frame))
                pictures, cameras = [], []
                for index, view in enumerate(views):
                    came = fence.run(returned.read, own[index])
                    camera = _sized(view.camera(panorama), came.rgba.shape, view.name)
                    found, findings, _ = returned.put_right(came, coverage(camera, scene))
                    if not made.seams:  # the first frame says how all of them come
                        made.says += [(f"{view.name}: {one.says}", one.mended) for one in findings]
                    pictures.append(found.rgba)
                    cameras.append(camera)
                made.add(frame, pictures, cameras, panorama)
        return made.taken_in(shot, lambda done: progress(0.8 + 0.2 * done))
    finally:
        shutil.rmtree(place, ignore_errors=True)


def _ready(shot: Shot, frame: int | None):
    """The panorama's camera on a frame, and what stands there. Raises Problem."""
    panorama_of(shot)
    return ready(shot, Order(), frame)


class _Made:
    """Panoramas joined from views, frame by frame, in a folder from which they are taken in."""

    def __init__(self, views: list[View]) -> None:
        self.views = views
        self.says: list[tuple[str, bool]] = []
        self.seams: list[Seam] = []
        self.panorama: Camera | None = None
        home = settings.DATA / "returned"
        home.mkdir(parents=True, exist_ok=True)
        self.folder = Path(tempfile.mkdtemp(prefix="incoming-", dir=home))

    def add(self, frame: str, pictures, cameras, panorama: Camera) -> None:
        """Join the pictures of a frame."""
        self.seams += seams(pictures, cameras)
        self.panorama = panorama
        whole = recombine(pictures, cameras, panorama)
        channels = {"RGBA"[index]: whole[..., index].astype(np.float16) for index in range(4)}
        write_channels(self.folder / f"{frame}.exr", channels)

    def taken_in(self, shot: Shot, progress) -> Returned:
        """Bring them back as a render of the whole, with what is said of the seams."""
        seams_say, *slips = seam_words(self.seams, self.views)
        self.says += [(sentence, False) for sentence in slips]
        share = 0.0 if self.panorama is None else unseen(self.views, self.panorama)
        if share > 1e-3:
            self.says.append(
                (f"{100 * share:.1f} % of the panorama lies in none of the views.", False)
            )
        name = f"{len(self.views)} views, joined"
        row = take_in(shot, self.folder.name, name, progress)
        row.findings = [*row.findings, *([sentence, mended] for sentence, mended in self.says)]
        row.taken = {**row.taken, "seams": seams_say}
        row.save(update_fields=["findings", "taken"])
        return row


def _sized(camera: Camera, shape: tuple[int, ...], name: str) -> Camera:
    """The view's camera at the size that its render has. Raises Problem where that is another
    shape."""
    from dataclasses import replace

    height, width = shape[:2]
    grid = camera.grid
    if (width, height) == (grid.width, grid.height):
        return camera
    if abs(width * grid.height - height * grid.width) > max(width, height):
        raise Problem(
            f"The render of “{name}” has {width} × {height} px, its view {grid.width} ×"
            f" {grid.height}: that is another shape."
        )
    return replace(camera, grid=grid.resize(width, height))


def render_views(shot: Shot, progress=lambda done: None) -> Returned:
    """Render the stand-ins through the views here, join them, and take the panorama in."""
    views, (panorama, _, scene) = views_of(shot), _ready(shot, None)
    cameras = [view.camera(panorama) for view in views]
    pictures = []
    for number, camera in enumerate(cameras):
        progress(0.7 * number / len(cameras))
        pictures.append(render(camera, scene, Wanted(samples=OWN_SAMPLES)).rgba)
    made = _Made(views)
    made.add("still", pictures, cameras, panorama)
    return made.taken_in(shot, lambda done: progress(0.8 + 0.2 * done))


def seam_words(found: list[Seam], views: list[View]) -> list[str]:
    """A sentence on the seams, and one on each that doesn't meet."""
    if not found:
        return ["No two views overlap by enough to say how well they meet."]
    shifts = [seam.shift_px for seam in found if np.isfinite(seam.shift_px)]
    worst = f", and at most {max(shifts):.2f} px beside each other" if shifts else ""
    codes = max(seam.code for seam in found)
    many = "1 seam" if len(found) == 1 else f"{len(found)} seams"
    out = [f"{many}: 95 % within {codes:.1f} of 255 code values{worst}."]
    told = set()
    for seam in found:
        if seam.meets or (seam.first, seam.second) in told:
            continue  # of a sequence, each pair is told of once
        told.add((seam.first, seam.second))
        names = f"“{views[seam.first].name}” and “{views[seam.second].name}”"
        if seam.slipped:
            says = f"{names} don’t meet: they lie {seam.shift_px:.1f} px beside each other."
            out.append(f"{says} Was one turned, mirrored or cropped, or rendered at another angle?")
        elif not seam.meets:
            off = abs(seam.brighter)
            out.append(f"{names} differ in brightness, by {off:.0f} code values.")
    return out


def own_from_lines(text: str) -> list[View]:
    """Views as typed, one a line: name, pan, tilt, angle, width × height. Raises Problem."""
    views = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        parts = [part.strip() for part in re.split("[,;]", line)]
        if len(parts) == 5:  # width × height
            parts = [*parts[:4], *(part.strip() for part in re.split("[×x*]", parts[4]))]
        views.append(_view_of(parts, number))
    return views


def _view_of(parts: list[str], number: int) -> View:
    says = (
        f"Line {number}: type a name, pan, tilt and angle in degrees, and width and height in px."
    )
    if len(parts) != 6:
        raise Problem(says, "own")
    name, *figures = parts
    try:
        pan, tilt, angle = (float(part.removesuffix("°").replace("−", "-")) for part in figures[:3])
        width, height = (int(part) for part in figures[3:])
    except ValueError:
        raise Problem(says, "own") from None
    return View(name[:60], pan, tilt, angle, width, height)


def lines_of(views: list[View]) -> str:
    """The views as they are typed, to be read back as they were."""
    return "\n".join(
        ", ".join(
            [
                view.name,
                *map(exact_number, (view.pan_deg, view.tilt_deg, view.angle_deg)),
                str(view.width),
                str(view.height),
            ]
        )
        for view in views
    )


def rows_of(shot: Shot) -> list[dict[str, str]]:
    """The views for the sheet."""
    panorama = panorama_of(shot)
    out = []
    for view in views_of(shot):
        camera = view.camera(panorama)
        wide, high = camera.grid.gate_mm
        out.append(
            {
                "name": view.name,
                "says": (
                    f"pan {view.pan_deg:g}°, tilt {view.tilt_deg:g}°, {view.angle_deg:g}° across"
                ),
                "gate": (
                    f"{camera.lens.focal_mm:.3f} mm on {wide:.2f} × {high:.2f} mm, "
                    f"{view.width} × {view.height} px"
                ),
            }
        )
    return out

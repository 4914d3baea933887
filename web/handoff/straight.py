"""The plate's pictures without its lens's distortion, or at another grid of the gate chain: one
picture, all frames as a zip that is written while it is sent, a movie.
"""

import io
import json
import zipfile
from collections.abc import Iterator
from pathlib import Path

from django.http import StreamingHttpResponse
from django.views.decorators.http import require_GET

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats.straight import KINDS, SIZES, Straightened, encoded, write_movie
from web.elements.actions import GRID, Order, grids
from web.gates.gate import chain_on
from web.handoff import remembered
from web.handoff.answers import download, made_file
from web.handoff.cameras import cameras_by_frame
from web.match.path_fits import camera_of_state
from web.plates.frames import offset_of
from web.plates.full_frames import linear_frame
from web.plates.models import linear_plate
from web.shows.models import Shot
from web.shows.views import find


def sizes_of(shot: Shot) -> dict[str, str]:
    """What the plate's pictures can be written as: straight, where the lens bends, and at the grids
    of the gate chain, bent or straight as the chain has them.
    """
    camera = camera_of_state(shot.state)
    straight = SIZES if camera is not None and camera.lens.bends else {}
    return straight | grids(shot)


def _asked(request, shot: Shot) -> tuple[str, Straightened]:
    """The kind of file and the size. Raises Problem."""
    kind = request.GET.get("kind", "exr-half")
    if kind not in KINDS:
        raise Problem(f"A picture is written as one of {', '.join(KINDS)}.", "kind")
    size = request.GET.get("size", next(iter(SIZES)))
    if not size.startswith(GRID):
        return kind, Straightened(size)
    order = Order(size=size)

    def target(camera: Camera, frame: int) -> Camera:
        return order.camera(camera, chain_on(shot, frame))

    return kind, Straightened(size, target)


def _linear(shot: Shot, frame: int):
    """(H, W, 3) the plate's linear light on a frame. Raises Problem."""
    if not shot.state["film"]:
        return linear_plate(shot)
    return linear_frame(shot, frame - offset_of(shot.state))


class _Sent(io.RawIOBase):
    """What a zip writes, to be fetched bit by bit: it can't go back, and a zip can do without."""

    def __init__(self):
        self._waiting = bytearray()

    def writable(self):
        return True

    def write(self, data):
        self._waiting += data
        return len(data)

    def fetch(self) -> bytes:
        data = bytes(self._waiting)
        self._waiting.clear()
        return data


def _zip(shot: Shot, cameras: dict, kind: str, straightened: Straightened) -> Iterator[bytes]:
    """The zip's bytes, frame by frame; a frame that can't be read is left out, and told in
    straight.json.
    """
    sent, left_out, sizes = _Sent(), [], {}
    with zipfile.ZipFile(sent, "w", zipfile.ZIP_STORED) as archive:
        for frame, camera in sorted(cameras.items()):
            try:
                made = straightened.by(camera, frame)
                picture = made.straightened(_linear(shot, frame))
            except Problem as problem:
                left_out.append({"frame": frame, "because": problem.sentence})
                continue
            sizes[frame] = {
                "width": made.grid.width,
                "height": made.grid.height,
                "gate_mm": list(made.grid.gate_mm),
            }
            archive.writestr(
                f"{shot.code}_straight.{frame:04}{KINDS[kind][0]}", encoded(picture, kind)
            )
            yield sent.fetch()
        told = {
            "shot": shot.code,
            "revision": shot.head.number,
            "frames": sizes,
            "left_out": left_out,
        }
        archive.writestr("straight.json", json.dumps(told, indent=1))
    yield sent.fetch()


@require_GET
def pictures(request, show, shot):
    """One straight picture of a photograph, a zip of a film's."""
    shot = find(show, shot)
    kind, straightened = _asked(request, shot)
    cameras = cameras_by_frame(shot)
    first = min(cameras)
    straightened.by(
        cameras[first], first
    )  # what can't be straightened is said before anything is sent
    remembered.remember(shot, f"straight pictures, {kind}")
    if not shot.state["film"]:
        picture = straightened.by(cameras[first], first).straightened(_linear(shot, first))
        name = f"{shot.code}_straight{KINDS[kind][0]}"
        return download(encoded(picture, kind), name, "application/octet-stream")
    answer = StreamingHttpResponse(
        _zip(shot, cameras, kind, straightened), content_type="application/zip"
    )
    answer["Content-Disposition"] = f'attachment; filename="{shot.code}_straight.zip"'
    return answer


@require_GET
def movie(request, show, shot):
    """The straight frames as a movie to look at."""
    shot = find(show, shot)
    _, straightened = _asked(request, shot)
    cameras = cameras_by_frame(shot)
    if not shot.state["film"]:
        raise Problem("A photograph makes no movie: write the straight picture.")

    def make(path: Path) -> None:
        frames = (
            (frame, camera, _linear(shot, frame)) for frame, camera in sorted(cameras.items())
        )
        write_movie(path, straightened.each(frames), shot.show.rate)

    answer = made_file(make, f"{shot.code}_straight.mp4", "video/mp4")
    remembered.remember(shot, "straight movie")
    return answer

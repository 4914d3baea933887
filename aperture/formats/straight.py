"""Pictures without their lens's distortion: what a renderer without distortion shows, in files of
several kinds.

Light is mixed linearly: a plate is decoded before it is resampled, and encoded again (sRGB) where
its file holds integers. Cubic interpolation, as what is straightened once more loses little by it.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats.lens_maps import lens_maps
from aperture.geometry.grid import Grid
from aperture.plates.colour import encode_srgb
from aperture.plates.exr import write_channels
from aperture.plates.straighten import GOING_ON, going_on, map_between

# Called by what a receiver asks for; the ending of each, and what it holds.
KINDS = {
    "exr-half": (".exr", "OpenEXR, half"),
    "exr-float": (".exr", "OpenEXR, float"),
    "png-16": (".png", "PNG, 16 bit"),
    "png-8": (".png", "PNG, 8 bit"),
    "tiff-16": (".tif", "TIFF, 16 bit"),
    "tiff-8": (".tif", "TIFF, 8 bit"),
}
SIZES = {"overscan": "all of the plate, with overscan", "plate": "the plate’s size"}


@dataclass(frozen=True, eq=False)
class Straightener:
    """Resamples pictures of one lens. grid: of the straight picture; at: (H', W', 2) px of the
    plate; around: whether the plate goes on at its other side.
    """

    grid: Grid
    at: Array
    around: bool = False

    @classmethod
    def of(cls, camera: Camera, size: str = "overscan") -> Straightener:
        """Return one for a camera's lens.

        Parameters
        ----------
        camera : Camera
        size : str
            "overscan": as large as the plate's edge needs; "plate": its middle, as large as the
            plate.

        Raises
        ------
        Problem
            If no straight picture holds the plate.
        """
        maps = lens_maps(camera)
        grid, uv = maps.grid, maps.undistort
        if size == "plate":
            corner = camera.grid.to_mm([[0.0, 0.0]])
            x, y = np.round(grid.to_px(corner)[0]).astype(int)
            uv = uv[y : y + camera.grid.height, x : x + camera.grid.width]
            grid = camera.grid
        plate = [camera.grid.width, camera.grid.height]
        at = np.stack([uv[..., 0] * plate[0], (1 - uv[..., 1]) * plate[1]], axis=-1)
        return cls(grid, at.astype(np.float32))

    @classmethod
    def between(cls, source: Camera, target: Camera) -> Straightener:
        """Return one that lays the plate of one camera out as another one's, from the same place,
        looking wherever that one looks.
        """
        x, y = map_between(source, target)
        return cls(target.grid, np.stack([x, y], axis=-1) + np.float32(0.5), source.goes_around)

    def straightened(self, linear: Array) -> Array:
        """(H', W', 3) float32 of a plate's linear light (H, W, 3); black where the plate shows
        nothing.
        """
        import cv2

        # OpenCV counts from the first pixel's centre.
        x, y = (np.nan_to_num(self.at[..., axis] - 0.5, nan=-1e6) for axis in (0, 1))
        picture = np.ascontiguousarray(linear, np.float32)
        if self.around:
            picture, x = going_on(picture), x + GOING_ON
        return np.asarray(
            cv2.remap(picture, x.astype(np.float32), y.astype(np.float32), cv2.INTER_CUBIC)
        )


def encoded(linear: Array, kind: str) -> bytes:
    """The bytes of a file, one of KINDS, of linear light (H, W, 3). Raises Problem for a kind that
    there isn't.
    """
    if kind not in KINDS:
        raise Problem(f"A picture is written as one of {', '.join(KINDS)}.", "kind")
    if kind.startswith("exr"):
        return _exr(linear, np.float16 if kind == "exr-half" else np.float32)
    import cv2

    most = 65535 if kind.endswith("16") else 255
    display = encode_srgb(np.clip(linear, 0, 1)) * most + 0.5
    whole = display.astype(np.uint16 if most > 255 else np.uint8)
    done, data = cv2.imencode(KINDS[kind][0], np.ascontiguousarray(whole[..., ::-1]))
    if not done:
        raise Problem("This picture can’t be written.")
    return bytes(data.tobytes())


def _exr(linear: Array, kind: type) -> bytes:
    channels: dict[str, Array] = {
        name: linear[..., index].astype(kind) for index, name in enumerate("RGB")
    }
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "straight.exr"
        write_channels(path, channels)
        return path.read_bytes()


def write_movie(path: Path, pictures: Iterable[Array], rate: Fraction) -> None:
    """Write a movie to look at, H.264 in MP4, of linear light (H, W, 3); sizes are made even, as
    that codec needs.
    """
    import av

    with av.open(str(path), "w") as file:
        stream = None
        for linear in pictures:
            height, width = (side - side % 2 for side in linear.shape[:2])
            if stream is None:
                stream = file.add_stream("libx264", rate=rate)
                stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
                stream.options = {"crf": "16", "preset": "veryfast"}
            display = encode_srgb(np.clip(linear[:height, :width], 0, 1)) * 255 + 0.5
            frame = av.VideoFrame.from_ndarray(
                np.ascontiguousarray(display.astype(np.uint8)), format="rgb24"
            )
            file.mux(stream.encode(frame))
        if stream is None:
            raise Problem("There is no frame to write.")
        file.mux(stream.encode(None))


class Straightened:
    """Pictures of frames one after the other, straight or at another grid; what differs by frame is
    followed."""

    def __init__(self, size: str, target_of: Callable[[Camera, int], Camera] | None = None) -> None:
        """`target_of`: gives the camera whose picture is made, of a plate's on a frame; instead of
        a size of SIZES."""
        if target_of is None and size not in SIZES:
            raise Problem(f"A straight picture has one of the sizes {', '.join(SIZES)}.", "size")
        self._size, self._target_of = size, target_of
        self._of: tuple[object, Straightener] | None = None

    def by(self, camera: Camera, frame: int) -> Straightener:
        """The straightener of a frame's camera; that of the frame before where nothing has
        changed."""
        target = self._target_of(camera, frame) if self._target_of else None
        key: tuple[object, ...] = (camera.lens,)
        if target is not None:
            turn = (camera.rotation.T @ target.rotation).round(9).tobytes()
            key = (camera.lens, target.lens, target.grid, turn)
        if self._of is None or self._of[0] != key:
            self._of = (key, self._made(camera, target))
        return self._of[1]

    def _made(self, camera: Camera, target: Camera | None) -> Straightener:
        if target is None:
            return Straightener.of(camera, self._size)
        return Straightener.between(camera, target)

    def each(self, frames: Iterable[tuple[int, Camera, Array]]) -> Iterator[Array]:
        """Of frames, their cameras and their plates' linear light."""
        for frame, camera, linear in frames:
            yield self.by(camera, frame).straightened(linear)

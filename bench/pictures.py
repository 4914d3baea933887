"""Pictures with an edge or a corner at a known place, with the demo's blur and noise; refining
measured on them, proposals on plates."""

import time

import cv2
import numpy as np

from aperture.match.proposals import propose
from aperture.match.refine import refine_edge, refine_spot
from aperture.plates.colour import decode_srgb, encode_srgb
from aperture.plates.reading import read_picture
from demo.plates import FOLDER, truth

FINER = 6
PHOTONS, READ_NOISE = 5200.0, 0.0016  # as in demo.photograph


def _developed(linear, rng, blur):
    """(H, W, 3) uint8: blurred, with the noise of photons and of reading out."""
    linear = cv2.GaussianBlur(linear.astype(np.float32), (0, 0), blur)
    linear = (
        linear
        + rng.normal(size=linear.shape) * np.sqrt(np.maximum(linear, 0) / PHOTONS)
        + rng.normal(size=linear.shape) * READ_NOISE
    )
    return np.repeat(
        (encode_srgb(linear) * 255 + rng.random(linear.shape))
        .astype(np.uint8)
        .clip(0, 255)[..., None],
        3,
        2,
    )


def _raster(size):
    width, height = size
    y, x = np.mgrid[0 : height * FINER, 0 : width * FINER]
    return (x + 0.5) / FINER, (y + 0.5) / FINER


def _coarse(fine, size):
    width, height = size
    return fine.reshape(height, FINER, width, FINER).mean(axis=(1, 3))


def edge_picture(rng, size=(400, 300)):
    """(pixels, a point of the edge, its direction): one straight edge between two tones."""
    x, y = _raster(size)
    turn, middle = rng.uniform(0, np.pi), np.array(size) / 2 + rng.uniform(-20, 20, 2)
    direction = np.array([np.cos(turn), np.sin(turn)])
    beyond = (x - middle[0]) * -direction[1] + (y - middle[1]) * direction[0] > 0
    low, high = rng.uniform(0.05, 0.3), rng.uniform(0.4, 0.7)
    return (
        _developed(_coarse(np.where(beyond, high, low), size), rng, rng.uniform(0.65, 1.25)),
        middle,
        direction,
    )


def corner_picture(rng, size=(120, 120)):
    """(pixels, the corner): where four fields of two tones meet, as on a chessboard."""
    x, y = _raster(size)
    turn, corner = rng.uniform(0, np.pi), np.array(size) / 2 + rng.uniform(-3, 3, 2)
    u = (x - corner[0]) * np.cos(turn) + (y - corner[1]) * np.sin(turn)
    v = (y - corner[1]) * np.cos(turn + rng.uniform(-0.3, 0.3)) - (x - corner[0]) * np.sin(turn)
    return (
        _developed(
            _coarse(np.where(u * v > 0, rng.uniform(0.4, 0.7), rng.uniform(0.05, 0.3)), size),
            rng,
            rng.uniform(0.65, 1.1),
        ),
        corner,
    )


def board_picture(rng, size=(400, 300), squares=8):
    """(pixels, the two ends of a row of corners): squares of opposite contrast, as real boards have
    them.

    The squares' borders stray, the ink has spread, the light falls off to one side, the display
    curve is any, and the picture was written as JPEG.
    """
    x, y = _raster(size)
    turn, middle = rng.uniform(0, np.pi), np.array(size) / 2 + rng.uniform(-10, 10, 2)
    side = rng.uniform(22, 30)
    direction = np.array([np.cos(turn), np.sin(turn)])
    u = (x - middle[0]) * direction[0] + (y - middle[1]) * direction[1]
    v = (y - middle[1]) * direction[0] - (x - middle[0]) * direction[1]
    # Each border strays from its line from stretch to stretch, an eighth of a square long: an edge
    # by 0.05 px as a whole and a corner by 0.07, as measured on the photographs of
    # tests/chessboard.
    stray = rng.normal(size=(2, 256, 256)) * 0.14
    near = [np.floor(8 * w / side).astype(int) + 128 for w in (u, v)]
    line = [np.round(w / side).astype(int) + 128 for w in (u, v)]
    column = (u + stray[0, line[0], near[1]]) // side
    row = (v + stray[1, line[1], near[0]]) // side
    light = (column + row) % 2 > 0
    if rng.random() < 0.5:  # dark ink spreads by a sixth of a pixel
        light = cv2.erode(light.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    tones = np.where(light, rng.uniform(0.4, 0.7), rng.uniform(0.03, 0.15))
    linear = _coarse(tones * (1 + 0.3 * u / np.abs(u).max()), size)
    pixels = _developed(linear, rng, rng.uniform(0.65, 1.1))
    if rng.random() < 0.5:  # a camera that answers in a straight line
        pixels = (decode_srgb(pixels / 255) * 255).round().astype(np.uint8)
    _, written = cv2.imencode(".jpg", pixels, [cv2.IMWRITE_JPEG_QUALITY, 88])
    ends = middle + np.outer([-0.5, 0.5], direction) * side * squares
    return cv2.imdecode(written, cv2.IMREAD_COLOR), ends


def row_errors(rng, count):
    """(errors, in their own σ): rows across squares, refined from lines drawn 1 px off; px, and a
    share."""
    errors, own = [], []
    for _ in range(count):
        pixels, ends = board_picture(rng)
        along = (ends[1] - ends[0]) / np.linalg.norm(ends[1] - ends[0])
        normal = np.array([-along[1], along[0]])
        found = refine_edge(pixels, ends + rng.normal(size=(2, 1)) * normal)
        errors += ((found.points - ends[0]) @ normal).tolist()
        own += [found.sigma_px] * len(found.points)
    return np.array(errors), np.array(errors) / own


def report(count=200, seed=20261126) -> None:
    """Print what refining and proposals are worth."""
    rng, ours, drawn, own, corners, theirs = np.random.default_rng(seed), [], [], [], [], []
    for _ in range(count):
        pixels, middle, direction = edge_picture(rng)
        normal = np.array([-direction[1], direction[0]])
        ends = (
            middle
            + np.outer([-1, 1], direction) * rng.uniform(40, 120)
            + rng.normal(size=(2, 2)) * 1.5
        )
        found = refine_edge(pixels, ends)
        ours += ((found.points - middle) @ normal).tolist()
        own += [found.sigma_px] * len(found.points)
        drawn += ((ends - middle) @ normal).tolist()
    for _ in range(count // 2):
        pixels, corner = corner_picture(rng)
        start = corner + rng.normal(size=2)
        corners.append(refine_spot(pixels, start).points[0] - corner)
        grey = cv2.cvtColor(pixels, cv2.COLOR_RGB2GRAY)
        reference = cv2.cornerSubPix(
            grey, (start - 0.5).astype(np.float32).reshape(1, 1, 2), (7, 7), (-1, -1), (3, 40, 1e-4)
        )
        theirs.append(reference.reshape(2) + 0.5 - corner)
    rms = lambda values: float(np.sqrt(np.mean(np.square(values))))  # noqa: E731
    print(
        f"\nRefining, {count} edges and {count // 2} corners of known place at the demo's noise,"
        f" seed {seed}"
    )
    spread = np.std(np.array(ours) / own)
    print(
        f"  edges {rms(ours):.4f} px rms (wanted 0.05), {rms(ours) / rms(drawn):.3f} of the drawn"
        f" ones' error; error over own ± {spread:.2f}"
    )
    print(
        f"  corners {rms(corners):.4f} px rms; {rms(corners) / rms(theirs):.2f} × OpenCV's"
        " cornerSubPix from the same start"
    )
    errors, in_sigmas = row_errors(np.random.default_rng(seed), count // 2)
    print(
        f"  rows across squares {rms(errors):.4f} px rms; error over own ± {rms(in_sigmas):.2f},"
        f" {np.mean(np.abs(in_sigmas) < 2):.0%} within 2"
    )
    print("Proposals alone, focal length against the true one (wanted within 3 %)")
    for name in (
        "LT010_boathouse_morning",
        "LT020_toward_the_slipway",
        "LT040_net_loft",
        "LT050_lamp_room",
        "LT060_boathouse_surveyed",
    ):
        camera, pixels = truth(name), read_picture(FOLDER / f"{name}.jpg").pixels
        share = propose(pixels, principal_px=camera.principal_point_px).focal_share
        print(f"  {name:26} {share * camera.grid.width / camera.focal_px[0] - 1:+.2%}")
    pixels = cv2.resize(
        read_picture(FOLDER / "LT010_boathouse_morning.jpg").pixels,
        (6000, 4000),
        interpolation=cv2.INTER_CUBIC,
    )
    began = time.perf_counter()
    propose(pixels)
    whole = time.perf_counter() - began
    began = time.perf_counter()
    cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD).detect(
        cv2.cvtColor(
            cv2.resize(pixels, (1800, 1200), interpolation=cv2.INTER_AREA), cv2.COLOR_RGB2GRAY
        )
    )
    bare = time.perf_counter() - began
    print(
        f"  24 megapixels: {whole:.2f} s (wanted 2); {whole / bare:.1f} × OpenCV's segment detector"
        " alone on the reduced picture"
    )


if __name__ == "__main__":
    report()

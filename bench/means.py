"""Edges refined on one picture of a film and on the mean of many, error over ±, by what the film
went through; the reference is the truth.

A camera that stands still, 16 edges and corners of known places, blurred as a lens does, each frame
with a noise of its own. Compression takes the noise away and puts errors of its own in its place,
which are the same on every frame.
"""

from __future__ import annotations

import tempfile
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np

from aperture.match.refine import refine_edge, refine_spot
from aperture.plates.colour import encode_srgb
from bench.pictures import FINER, PHOTONS, READ_NOISE

TILE, SIDE, FRAMES = 200, 4, 12


def scene(rng):
    """(linear light (H, W), [(whether an edge, a point of it or the corner, its direction)]) of 4 ×
    4 tiles."""
    tiles, what = [], []
    y, x = (np.mgrid[0 : TILE * FINER, 0 : TILE * FINER] + 0.5) / FINER
    for index in range(SIDE**2):
        turn, middle = rng.uniform(0, np.pi), TILE / 2 + rng.uniform(-6, 6, 2)
        along = np.array([np.cos(turn), np.sin(turn)])
        beyond = (y - middle[1]) * along[0] - (x - middle[0]) * along[1]
        edge = index % 2 == 1
        if not edge:
            other = turn + rng.uniform(-0.3, 0.3)
            u = (x - middle[0]) * along[0] + (y - middle[1]) * along[1]
            beyond = u * ((y - middle[1]) * np.cos(other) - (x - middle[0]) * np.sin(other))
        tone = np.where(beyond > 0, rng.uniform(0.4, 0.7), rng.uniform(0.05, 0.3))
        coarse = tone.reshape(TILE, FINER, TILE, FINER).mean(axis=(1, 3)).astype(np.float32)
        tiles.append(cv2.GaussianBlur(coarse, (0, 0), rng.uniform(0.65, 1.25)))
        corner = np.array([index % SIDE, index // SIDE]) * TILE
        what.append((edge, middle + corner, along))
    return np.block([tiles[SIDE * row : SIDE * (row + 1)] for row in range(SIDE)]), what


def filmed(linear, rng, count=FRAMES, grain=0.0):
    """Frames (H, W, 3) uint8 with the noise of photons and of reading out; `grain`: how far it is
    smeared, px."""

    def noise():
        out = rng.normal(size=linear.shape)
        return out if not grain else (out := cv2.GaussianBlur(out, (0, 0), grain)) / out.std()

    frames = []
    for _ in range(count):
        light = linear + noise() * np.sqrt(linear / PHOTONS) + noise() * READ_NOISE
        levels = (encode_srgb(light) * 255 + rng.random(linear.shape)).clip(0, 255)
        frames.append(np.repeat(levels.astype(np.uint8)[..., None], 3, 2))
    return frames


def through_a_movie(frames, quality):
    """The frames, (H, W, 3) or grey (H, W) uint8, as an H.264 movie of some constant rate factor
    gives them back."""
    form = "rgb24" if frames[0].ndim == 3 else "gray"
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "still.mp4")
        with av.open(path, "w") as file:
            stream = file.add_stream("libx264", rate=Fraction(24))
            stream.height, stream.width = frames[0].shape[:2]
            stream.pix_fmt = "yuv420p"
            # One thread, as its choices change with their number; with one they still do, a little,
            # from run to run.
            stream.options = {"crf": str(quality), "threads": "1"}
            for frame in frames:
                file.mux(stream.encode(av.VideoFrame.from_ndarray(frame, form)))
            file.mux(stream.encode())
        with av.open(path) as file:
            return [frame.to_ndarray(format=form) for frame in file.decode(video=0)]


def mean_of(frames):
    """(H, W, 3) uint16, as `aperture.plates.mean` writes it."""
    return (np.mean(frames, axis=0) / 255 * 65535 + 0.5).astype(np.uint16)


def errors(pixels, what, rng, lossy):
    """(px, over ±) of the edges' points across, and of the corners' coordinates, refined from marks
    drawn about 1 px off."""
    edges, corners = [], []
    for edge, at, along in what:
        if edge:
            normal = np.array([-along[1], along[0]])
            drawn = at + np.outer([-1, 1], along) * rng.uniform(40, 70) + rng.normal(size=(2, 2))
            found = refine_edge(pixels, drawn, lossy=lossy)
            off, into = (found.points - at) @ normal, edges
        else:
            found = refine_spot(pixels, at + rng.normal(size=2) * 0.8)
            off, into = found.points[0] - at, corners
        into += [(value, value / found.sigma_px) for value in off.tolist()]
    return np.array(edges), np.array(corners)


def measured(runs, how, lossy, seed=20261127, grain=0.0):
    """Of one frame and of the mean: rms of the edges' errors, px; of edges and of corners, over
    ±."""
    rng, found = np.random.default_rng(seed), {"one": [], "mean": []}
    for _ in range(runs):
        linear, what = scene(rng)
        frames = how(filmed(linear, rng, grain=grain))
        for name, pixels in (("one", frames[FRAMES // 2]), ("mean", mean_of(frames))):
            found[name].append(errors(pixels, what, rng, lossy))
    out = {}
    for name, parts in found.items():
        edges, corners = (np.concatenate(one) for one in zip(*parts))
        out[name] = (*np.sqrt(np.mean(edges**2, axis=0)), np.sqrt(np.mean(corners[:, 1] ** 2)))
    return out


def report(runs=16) -> None:
    """Print what the mean of some frames is worth, and whether its ± is true."""
    kinds = (
        ("as it is", lambda frames: frames, False, 0.0),
        ("grain smeared by 1 px", lambda frames: frames, False, 1.0),
        ("H.264, CRF 18", lambda frames: through_a_movie(frames, 18), True, 0.0),
        ("H.264, CRF 23", lambda frames: through_a_movie(frames, 23), True, 0.0),
    )
    print(f"\nEdges refined on the mean of {FRAMES} frames, {runs} films of 8 edges and 8 corners:")
    for name, how, lossy, grain in kinds:
        found = measured(runs, how, lossy, grain=grain)
        (one, ones, _), (mean, means, spots) = found["one"], found["mean"]
        print(
            f"  {name}: {mean:.3f} px, {mean / one:.2f} × that of one frame; error/± of edges"
            f" {means:.2f} (one frame {ones:.2f}), of corners {spots:.2f}"
        )


if __name__ == "__main__":
    report()

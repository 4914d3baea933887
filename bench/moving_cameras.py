"""Tracks and paths: how exact and how quick, against GTSAM and against the truth of simulated
films.

`python -m bench.moving_cameras` takes some ten minutes; `python -m bench.moving_cameras 40` does
forty repetitions of each path. Whether a wrong fact is named is measured by `bench.wrong_facts`,
whether the ± holds for films that went through a codec by `bench.filmed_paths`, and for pans by
`bench.pans`.
"""

import math
import sys
import time
from dataclasses import dataclass, field, replace
from itertools import product

import cv2
import numpy as np

from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.path.bundle import Bundle
from aperture.path.covariance import Solved
from aperture.path.imaging import Optics
from aperture.path.problem import Freedom, Observations, State
from aperture.path.solve import solve
from aperture.track.follow import Follower, Settings
from bench import bounds as bounds_of
from bench.means import through_a_movie
from tests.moving import GRID, Scene, document, path_error, scene, zooming

REPETITIONS = 12
FOCAL_PX = 20.0 / 24.0 * 1920
# Frames, points, mean length of a track.
PROBLEMS = {
    "100 × 500": (100, 500, 300),
    "300 × 1500": (300, 1500, 110),
    "1000 × 3000": (1000, 3000, 110),
}


def walk(frames: int, points: int, length: int, seed: int = 0):
    """A bundle of a camera that walks past points, begun some centimetres beside the truth."""
    rng = np.random.default_rng(seed)
    s = np.arange(frames)
    places = np.stack([0.04 * s, 0.15 * np.sin(0.07 * s), -0.3 * np.sin(0.03 * s)], axis=1)
    turns = [
        rotation_from_angles(0.1 * math.sin(0.02 * i), 0.04 * math.sin(0.05 * i), 0) for i in s
    ]
    lens = Lens(20.0, coefficients=(-0.08, 0.01, 0.0, 0.0, 0.0))
    rows = []
    positions = np.zeros((points, 3))
    for point in range(points):
        first = max(0, int(rng.integers(-length // 2, max(1, frames - 5))))
        last = min(frames, first + max(8, int(rng.gamma(4, length / 4))))
        first = min(first, last - 8)
        middle = (first + last) // 2
        ray = np.array([rng.uniform(-0.6, 0.6), rng.uniform(-0.34, 0.34), -1.0])
        positions[point] = places[middle] + turns[middle] @ ray * rng.uniform(4, 20)
        own = np.arange(first, last)
        p = np.einsum("nij,ni->nj", np.array(turns)[own], positions[point] - places[own])
        xy = GRID.to_px(lens.project(p))
        inside = (
            np.isfinite(xy).all(axis=1) & (xy > 0).all(axis=1) & (xy < [1920, 1080]).all(axis=1)
        )
        rows += [(f, point, *at) for f, at in zip(own[inside], xy[inside])]
    table = np.array(rows)
    counts = np.bincount(table[:, 1].astype(int), minlength=points)
    number = np.cumsum(counts >= 3) - 1
    table = table[counts[table[:, 1].astype(int)] >= 3]
    camera, point = table[:, 0].astype(int), number[table[:, 1].astype(int)]
    xy = table[:, 2:] + rng.normal(0, 0.3, (len(table), 2))
    positions = positions[counts >= 3]
    free = np.ones((frames, 6), bool)
    free[0] = free[-1, 3] = False
    start = places + rng.normal(0, 0.05, places.shape) * free[:, 3:]
    state = State(
        np.array(turns),
        start,
        np.zeros(frames),
        lens.parameters + [0.04, 0, 0, 0.08, -0.01, 0, 0, 0],
        positions + rng.normal(0, 0.05, positions.shape),
    )
    solved = np.zeros(8, bool)
    solved[[0, 3, 4]] = True
    freedom = Freedom(free, solved, np.zeros(positions.shape, bool))
    observations = Observations(camera, point, xy, np.full(xy.shape, 0.3))
    return lambda: Bundle(observations, Optics(GRID, lens), state, freedom, threads=1), state


def against_gtsam() -> None:
    """CPU seconds of one iteration, and of all ±."""
    try:
        from bench.gtsam_path import seconds_per_iteration
    except ImportError:
        print("  GTSAM isn't installed (`make setup-tests` does): no reference")
        return
    for name, size in PROBLEMS.items():
        make, state = walk(*size)
        make().solve(most=1)  # compiled
        ours = theirs = math.inf
        for _ in range(3):  # in turns, as other work on the machine comes and goes
            bundle = make()
            ours = min(ours, _quickest(bundle))
            theirs = min(theirs, seconds_per_iteration(bundle, state))
        began = time.process_time()
        Solved(bundle).spread()
        spread = time.process_time() - began
        print(
            f"  {name}: {ours * 1e3:.0f} ms an iteration, GTSAM {theirs * 1e3:.0f} ms, "
            f"{theirs / ours:.1f} × (wanted: {6 if size[0] > 300 else 10}); all ± in {spread:.2f} s"
        )


def _quickest(bundle: Bundle) -> float:
    """CPU seconds of the quickest iteration but the last, which ends sooner: as the reference is
    measured."""
    begun: list[float] = []
    bundle.solve(watch=lambda *_: begun.append(time.process_time()))
    return float(np.diff(begun).min())


def frames_cost() -> None:
    """Whether the cost of a frame stays the same: with tracks that are short beside all of the
    shots, and with long ones.

    The ends of a shot cut tracks off. With long ones a frame of a short shot has less to do: a
    point that n frames see costs n² products, whose number a frame is told beside the time.
    """
    for length, points in ((20, 12), (60, 5)):
        each, products = {}, {}
        for frames in (100, 300, 1000):
            make, _ = walk(frames, points * frames, length)
            make().solve(most=1)
            best = math.inf
            for _ in range(3):
                bundle = make()
                best = min(best, _quickest(bundle) / frames)
            each[frames] = best
            products[frames] = float((np.diff(bundle.starts) ** 2).sum()) / frames
        told = ", ".join(f"{frames}: {seconds * 1e3:.2f} ms" for frames, seconds in each.items())
        print(
            f"  cost of one frame an iteration, tracks of {length} frames, {told};"
            f" {_spread(each):.2f} × (wanted: within 1.3), of products {_spread(products):.2f} ×"
        )


def _spread(values: dict[int, float]) -> float:
    return max(values.values()) / min(values.values())


def solving() -> None:
    """A first path over 100 frames, and solving again with a track less, in seconds."""
    for kind in ("orbit", "sideways", "forward"):
        data = document(scene(kind, frames=100, count=500), sliding=0.03, known=4)
        stages: dict[str, float] = {}

        def watch(stage: str, _: float, stages: dict[str, float] = stages) -> None:
            stages.setdefault(stage, time.perf_counter())

        began = time.perf_counter()
        fit = solve(data, watch=watch).document
        whole = time.perf_counter() - began
        first = stages["Solving tracks and facts together"] - began
        fewer, again = data | {"tracks": data["tracks"][1:]}, []
        for _ in range(3):
            began = time.perf_counter()
            solve(fewer, warm=fit)
            again.append(time.perf_counter() - began)
        print(
            f"  {kind}, 100 frames, {len(data['tracks'])} tracks: a first path in {first:.1f} s"
            f" (wanted: 10), all in {whole:.1f} s, again {min(again):.2f} s (wanted: 1)"
        )


KINDS = (
    *product(("orbit", "sideways", "forward"), ("bend", "stand")),
    ("pivot", "bend"),  # turned on a tripod, the lens 8 cm ahead of it
    ("sway", "bend"),  # turned in the hand, which sways by 5 cm
    ("wall", "bend"),
)


@dataclass
class Errors:
    """Of solved paths: places over their ± (one for each frame and axis), the focal length as a
    share of it and over its ±, and the path as a share of its length."""

    places: list[float] = field(default_factory=list)
    focal: list[float] = field(default_factory=list)
    focal_over: list[float] = field(default_factory=list)
    path: list[float] = field(default_factory=list)

    def add(self, fit: dict, made: Scene) -> None:
        """Those of one more path."""
        places = fit["path"]["position_m"]
        there = [index for index, place in enumerate(places) if place is not None]
        away = np.array([places[index] for index in there]) - made.positions[there]
        plus_minus = [fit["path"]["position_plus_minus_m"][index] for index in there]
        self.places += (away / np.array(plus_minus)).ravel().tolist()
        off = fit["camera"]["focal_px"][1] / FOCAL_PX - 1
        self.focal.append(off)
        self.focal_over.append(off * FOCAL_PX / fit["plus_minus"]["focal_px"][1])
        self.path.append(path_error(fit, made))

    def __add__(self, other: "Errors") -> "Errors":
        return Errors(*(getattr(self, key) + getattr(other, key) for key in vars(self)))

    def __str__(self) -> str:
        inside = np.mean(np.abs(self.places) < 1.96)
        return (
            f"focal {100 * _rms(self.focal):.3f} % (0.1), path {100 * np.mean(self.path):.3f} %"
            f" (0.02), error/± {_rms(self.places):.2f} (0.9–1.1), of the focal length"
            f" {_rms(self.focal_over):.2f}, within 1.96 ±: {inside:.1%} (93–97)"
        )


def simulated(repetitions: int) -> None:
    """Paths with parallax, focal length unknown, σ 0.2 px, 3 % of the tracks slide; bent by the
    facts, and only laid down by them.

    The four known places lay the path down, and their errors are those of all its frames at once:
    few repetitions tell little of the ±.
    """
    pooled = {"bend": Errors(), "stand": Errors()}
    for kind, placing in KINDS:
        errors, bounds = Errors(), []
        for seed in range(repetitions):
            made = scene(kind, frames=40, count=200, seed=seed)
            bounds.append(bounds_of.of_focal(made))
            fit = solve(document(made, seed=seed, sliding=0.03, known=4, placing=placing)).document
            if fit["ok"] and fit["motion"] == "free":
                errors.add(fit, made)
            else:
                print(f"  {kind} {seed}: {fit.get('problem') or fit['motion']}")
        print(f"  {kind}, {placing}, {len(errors.path)} of {repetitions}: {errors}")
        print(f"    no estimate of the focal length can be better than {100 * _rms(bounds):.3f} %")
        if kind not in ("pivot", "sway", "wall"):
            pooled[placing] += errors
    for placing, errors in pooled.items():
        print(f"  pooled, {placing}, {len(errors.path)}: {errors}")


def surveyed(repetitions: int) -> None:
    """Six or ten tracks with known places and no others, the lens unknown, with errors that are new
    on each frame and with such that drift; and eight beside all others, the lens 8 cm ahead of the
    pivot, where the survey's errors are a good part of its way."""
    kinds, drifting = ("orbit", "sideways", "forward"), (0.7, 0.95)
    cases = (
        *product(kinds, (6, 10), (True,), ((0.0, 0.0), drifting)),
        ("pivot", 8, False, (0.0, 0.0)),
    )
    for kind, known, alone, drift in cases:
        errors = Errors()
        for seed in range(repetitions):
            made = scene(kind, frames=40, count=200, seed=seed)
            data = document(made, seed=seed, sliding=0.03, known=known, drift=drift)
            if alone:
                data["tracks"] = [track for track in data["tracks"] if "world" in track]
            fit = solve(data).document
            if fit["ok"] and fit["motion"] == "free":
                errors.add(fit, made)
        others = ("and no others" if alone else "among others") + ", drifting" * any(drift)
        count = f"{len(errors.path)} of {repetitions}"
        print(f"  {kind}, {known} surveyed tracks {others}, {count}: {errors}")


def zooms(repetitions: int) -> None:
    """A zoom of 24 to 70 mm of a full frame over 60 frames, one value per frame, nothing known of
    it; of which one on a tripod."""
    lens = {"focal_mm": None, "focal_over_time": "free", "distortion": {"free": ["k1"]}}
    for kind in ("orbit", "sideways", "turning"):
        sigmas, off, places = [], [], []
        for seed in range(repetitions):
            made = zooming(kind, 60, 220, seed)
            fit = solve(document(made, seed=seed, sliding=0.03, known=4, lens=lens)).document
            wanted = "nodal" if kind == "turning" else "free"
            if not fit["ok"] or fit["motion"] != wanted:
                print(f"  zoom, {kind} {seed}: {fit.get('problem') or fit['motion']}")
                continue
            true = np.array([camera.lens.focal_mm for camera in made.cameras])
            found = np.array(fit["path"]["focal_mm"], float)
            sigmas.append((found - true) / np.array(fit["path"]["focal_plus_minus_mm"], float))
            off.append(found / true - 1)
            if kind != "turning":
                away = np.array(fit["path"]["position_m"], float) - made.positions
                places.append(away / np.array(fit["path"]["position_plus_minus_m"], float))
        told = f", of places {_rms(places):.2f}" if places else ""
        print(
            f"  zoom, {kind}, {len(off)} of {repetitions}: focal {100 * _rms(off):.3f} %, error/± "
            f"{_rms(sigmas):.2f}{told} (0.9–1.1)"
        )


def drifts(repetitions: int) -> None:
    """Tracks whose errors hang together from frame to frame, as in a real film; six are surveyed,
    which lead the path."""
    for share in (0.0, 0.5):
        for kind in ("orbit", "sideways", "forward"):
            places, points, focal = [], [], []
            for seed in range(repetitions):
                made = scene(kind, frames=60, count=200, seed=seed)
                given = document(made, seed=seed, known=6, drift=(share, 0.95))
                fit = solve(given).document
                if not fit["ok"] or fit["motion"] != "free":
                    print(f"  drift, {kind} {seed}: {fit.get('problem') or fit['motion']}")
                    continue
                away = np.array(fit["path"]["position_m"], float) - made.positions
                places.append(away / np.array(fit["path"]["position_plus_minus_m"], float))
                surveyed = {track["id"] for track in given["tracks"] if "world" in track}
                for id_, point in fit["points"].items():
                    if id_ not in surveyed and point["world_m"] and None not in point["world_m"]:
                        off = np.array(point["world_m"]) - made.points[int(id_[1:])]
                        points.append(off / np.array(point["plus_minus_m"], float))
                off = fit["camera"]["focal_mm"] - made.cameras[0].lens.focal_mm
                focal.append(off / fit["plus_minus"]["focal_mm"])
            print(
                f"  {share:.0%} of the errors' variance stays from frame to frame, {kind},"
                f" {len(focal)} of {repetitions}: error/± of places {_rms(places):.2f}, of points"
                f" {_rms(points):.2f}, of the focal length {_rms(focal):.2f}"
            )


def by_hand(repetitions: int, hand_px: float = 0.8) -> None:
    """A path whose size comes from one length between two spots that a hand put down, once for all
    frames.

    The tracks follow what was hit, not what was meant; with what is told of the hand, and without.
    """
    for told in (True, False):
        sigmas = []
        for seed in range(repetitions):
            fit, made = _measured_by_hand(seed, hand_px if told else None, hand_px)
            plus_minus = np.array(fit["path"]["position_plus_minus_m"][-1])
            if plus_minus[2] > 0:
                off = np.array(fit["path"]["position_m"][-1]) - made.positions[-1]
                sigmas.append(off[2] / plus_minus[2])
        says = "told of the hand" if told else "without"
        print(f"  a length by hand, {says}: error/± along the way {_rms(sigmas):.2f} (0.9–1.1)")


def beside_facts(repetitions: int, sigma: float = 0.2, alike: float = 0.97) -> None:
    """Errors that hang together along the tracks, beside known places of the camera on each
    twentieth frame: of next to no weight, of much, and in between."""
    for metres in (0.0001, 0.0005, 0.002):
        errors = Errors()
        for seed in range(repetitions):
            made, rng = scene("sideways", 80, 90, seed), np.random.default_rng([seed, 7])
            off = rng.normal(0, sigma, made.seen.shape)
            for frame in range(1, len(off)):
                off[frame] = alike * off[frame - 1] + math.sqrt(1 - alike**2) * off[frame]
            lens = {"focal_mm": {"value": 20.0, "plus_minus": 0.001}, "distortion": {"k1": -0.06}}
            data = document(replace(made, seen=made.seen + off), noise=0.0, seed=seed, lens=lens)
            data["facts"] = [
                {
                    "id": f"p{index}",
                    "kind": "camera_position",
                    "frame": data["frames"]["first"] + index,
                    "metres": (made.positions[index] + rng.normal(0, metres, 3)).tolist(),
                    "plus_minus": metres,
                }
                for index in range(0, 80, 20)
            ]
            fit = solve(data).document
            if fit["ok"] and fit["motion"] == "free":
                errors.add(fit, made)
        print(
            f"  errors alike along tracks, places ± {1000 * metres:g} mm, {len(errors.path)} of"
            f" {repetitions}: error/± {_rms(errors.places):.2f} (0.9–1.1)"
        )


def _measured_by_hand(seed: int, told_px: float | None, hand_px: float):
    made, rng = scene("forward", frames=14, count=110, seed=seed), np.random.default_rng([seed, 9])
    lens = {"focal_mm": {"value": 20.0, "plus_minus": 0.001}, "distortion": {"k1": -0.06}}
    data, first = document(made, noise=0.2, seed=seed, lens=lens), made.cameras[0]
    long = np.flatnonzero(np.isfinite(made.seen[:, :, 0]).sum(axis=0) >= 12).tolist()
    pairs = [(a, b) for a in long for b in long if a < b]
    apart = [float(np.linalg.norm(made.points[a] - made.points[b])) for a, b in pairs]
    pair = pairs[int(np.argmin(np.abs(np.array(apart) - 2.0)))]
    for index in pair:
        meant = made.points[index]
        at = first.project(meant[None]) + rng.normal(0, hand_px, (1, 2))
        hit = first.position + first.rays(at)[0] * np.linalg.norm(meant - first.position)
        track = data["tracks"][index]
        for row in track["observations"]:
            camera = made.cameras[row[0] - data["frames"]["first"]]
            row[1:3] = (row[1:3] + (camera.project([hit]) - camera.project([meant]))[0]).tolist()
        if told_px is not None:
            track |= {"drawn_px": told_px, "drawn_on": data["frames"]["first"]}
    length = float(np.linalg.norm(made.points[pair[0]] - made.points[pair[1]]))
    ends = {"from": f"t{pair[0]}", "to": f"t{pair[1]}"}
    on_first = {"frame": data["frames"]["first"]}
    data["facts"] = [
        {"id": "f1", "kind": "length", **ends, "metres": length, "plus_minus": 0.002},
        {
            "id": "f2",
            "kind": "camera_position",
            "metres": first.position.tolist(),
            "plus_minus": 0.001,
        }
        | on_first,
    ]
    for name, angle in zip(("pan", "tilt", "roll"), np.degrees(first.angles).tolist()):
        fact = {
            "id": name,
            "kind": "camera_angle",
            "of": name,
            "degrees": angle,
            "plus_minus": 0.01,
        }
        data["facts"].append(fact | on_first)
    return solve(data).document, made


def _rms(values) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


def following() -> None:
    """A textured plane at 1920 × 1080, known motion, 100 frames."""
    rng = np.random.default_rng(1)
    soft = cv2.GaussianBlur(rng.normal(0, 1, (2100, 3300)).astype(np.float32), (0, 0), 2.2)
    texture = 128 + 35 * soft / soft.std()
    maps, pictures = [], []
    for index in range(100):
        share = index / 99
        turn = cv2.getRotationMatrix2D((1650, 1050), 9 * share, 1 + 0.25 * share)
        turn[:, 2] += [960 - 1650 + 220 * math.sin(2.2 * share), 540 - 1050 - 90 * share]
        seen = cv2.warpAffine(texture, turn, (1920, 1080), flags=cv2.INTER_LANCZOS4)
        seen = seen * (1 + 0.08 * math.sin(index / 20)) + rng.normal(0, 2, seen.shape)
        maps.append(turn)
        pictures.append(np.clip(np.round(seen), 0, 255).astype(np.uint8))
    for name, shown in (("clean", pictures), ("H.264, CRF 18", through_a_movie(pictures, 18))):
        _follow(name, shown, maps)


def _follow(name: str, pictures: list, maps: list) -> None:
    cv2.setNumThreads(1)
    warm = Follower(Settings(wanted=50))  # the compiled loops are loaded
    for number, picture in enumerate(pictures[:2]):
        warm.advance(number, picture)
    follower = Follower(Settings(wanted=500))
    began = time.process_time()
    for number, picture in enumerate(pictures):
        follower.advance(number, picture)
    rate = len(pictures) / (time.process_time() - began)
    tracks = follower.finish()
    off, sigmas, good = [], [], 0
    for start, end in zip(tracks.starts[:-1], tracks.starts[1:]):
        own = [maps[frame] for frame in tracks.frame[start:end]]
        xy = tracks.xy[start:end] - 0.5
        on = np.array([np.linalg.solve(m[:, :2], at - m[:, 2]) for m, at in zip(own, xy)])
        point = on.mean(axis=0)
        error = xy - np.array([m @ [*point, 1] for m in own])
        off.append(error)
        sigmas.append((error / tracks.sigma[start:end] / math.sqrt(1 - 1 / len(xy))).ravel())
        good += _rms(error) < 0.05
    print(
        f"  following, {name}: {_rms(np.concatenate(off)):.3f} px rms an axis,"
        f" {good / len(tracks):.0%} of the tracks under 0.05 px, error/σ"
        f" {_rms(np.concatenate(sigmas)):.2f}, {rate:.0f} frames a second"
    )


def report(repetitions: int = REPETITIONS) -> None:
    """Print all of it."""
    following()
    against_gtsam()
    frames_cost()
    solving()
    simulated(repetitions)
    surveyed(repetitions)
    by_hand(repetitions)
    beside_facts(repetitions)
    zooms(repetitions)
    drifts(repetitions)


if __name__ == "__main__":
    report(int(sys.argv[1]) if len(sys.argv) > 1 else REPETITIONS)

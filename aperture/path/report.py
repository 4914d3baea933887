"""The fit of a path as JSON (match-document.md, version 2): every number with its ±, what is set
and what isn't, what contradicts."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.geometry.rotation import angles_from_rotation
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.match.facts import angle_slopes
from aperture.match.report import FIT_FORMAT
from aperture.path import cleaning, contradictions, floor, leaning
from aperture.path.covariance import Solved
from aperture.path.document import FilmEvidence
from aperture.path.remarks import remarks
from aperture.path.sightings import Sightings
from aperture.path.spread import Spread

if TYPE_CHECKING:
    from aperture.path.network import Network

SETTLES = {
    "scale": (
        "one known length between two tracks, the camera's height above tracks on the floor, or"
        " marked spots whose distance is known, once they are followed: on one frame alone they"
        " don't tell how far the camera goes"
    ),
    "direction": "three tracks on the floor, or edges drawn on a frame",
    "heading": "two tracks along an axis, or edges of two axes drawn on a frame",
    "position": "an origin: one track whose place in the world is known",
}


def refusal(problem: str, of: str = "") -> dict[str, Any]:
    """A fit that could not be made, with the sentence that says why."""
    out = {"format": FIT_FORMAT, "version": 2, "ok": False, "problem": problem}
    return out | {"of": [of]} if of else out


@dataclass(frozen=True, eq=False)
class Told:
    """What a report is written from. kind: free or nodal; bent: what facts make of the path, if
    this is the one that they only lay down.

    untold_shutter: whether the readout was found without having been asked for; reversible: whether
    near and far may be the other way round. off_pivot: the σ of how far the lens of a camera that
    only turns may stand off its pivot, over the distance of what it sees.
    """

    evidence: FilmEvidence
    sightings: Sightings
    network: Network
    naive: Spread
    clustered: Spread
    solved: Solved
    kind: str
    bent: Told | None = None
    untold_shutter: bool = False
    reversible: bool = False
    off_pivot: float = 0.0

    @cached_property
    def camera_variances(self) -> Array:
        """(F, size) the larger of the two estimates."""
        return np.maximum(_diagonals(self.naive.cameras), _diagonals(self.clustered.cameras))

    @cached_property
    def lens_sigma(self) -> Array:
        """(8,) of the PARAMETERS."""
        naive, clustered = np.diag(self.naive.lens), np.diag(self.clustered.lens)
        return np.sqrt(np.maximum(np.maximum(naive, clustered), 0))

    @cached_property
    def residuals_px(self) -> Array:
        """(F, T) distances in the picture, NaN where nothing counts."""
        network = self.network
        row, column = np.nonzero(network.use[np.ix_(network.frames, network.tracks)])
        at = network.frames[row], network.tracks[column]
        out = np.full(network.use.shape, np.nan)
        out[at] = np.linalg.norm(network.off_px, axis=1)
        return out


def write(told: Told) -> dict[str, Any]:
    """The fit's document."""
    network, evidence = told.network, told.evidence
    state = network.state
    lens = evidence.lens.with_parameters(state.lens)
    camera = Camera(evidence.grid, lens, np.eye(4))
    # Whether facts agree is seen where they are all heeded.
    facts, conflicts = contradictions.find(told.bent or told)
    if evidence.rate:
        conflicts += contradictions.of_readout(told, 1000 / float(evidence.rate), _wider(told))
    determined = _determined(told)
    residual = told.residuals_px
    rows, variance_factor = 2 * len(network.bundle.camera), network.factor**2
    return {
        "format": FIT_FORMAT,
        "version": 2,
        "ok": True,
        "motion": told.kind,
        "zooms": evidence.zooms,
        **_readout(told),
        "camera": _lens_values(told, camera),
        "plus_minus": _lens_plus_minus(told, camera),
        "determined": determined,
        "missing": _missing(told, determined),
        "path": _path(told, determined),
        "points": _points(told),
        "left_out": _left_out(told),
        "bending": _bending(told),
        "doubtful": cleaning.proposals(told),
        "floor": floor.tilt(told) if _holds_floor(told, determined) else None,
        "advice": leaning.advice(told.bent or told, determined),
        "residuals": {
            "rms_px": _number(math.sqrt(np.nanmean(residual**2) / 2)),
            "weighted_px": _number(_weighted_px(told)),
            "observations": rows // 2,
            "facts": facts,
        },
        "conflicts": conflicts,
        "variance_factor": _number(variance_factor),
        "clustered": bool(_uses_clusters(told)),
        "remarks": remarks(told, _jerks(told), _uses_clusters(told)),
    }


def _holds_floor(told: Told, determined: dict[str, str]) -> bool:
    """Whether the path has a floor to be tilted."""
    return determined["direction"] == "solved" and not told.network.bundle.freedom.at_infinity


def _readout(told: Told) -> dict[str, Any]:
    """The solved readout time: in frames, and in milliseconds with its ±; of errors that hang
    together, as for the cameras."""
    readout, rate = told.network.readout, told.evidence.rate
    if readout is None or rate is None:
        return {"readout_frames": told.evidence.readout[0] or None}
    per_frame = 1000 / float(rate)
    return {
        "readout_frames": readout.frames,
        "readout_ms": readout.frames * per_frame,
        "readout_plus_minus_ms": readout.sigma * per_frame * _wider(told),
    }


def _wider(told: Told) -> float:
    """By how much errors that hang together widen the cameras' ±, at the median."""
    naive, clustered = _diagonals(told.naive.cameras), _diagonals(told.clustered.cameras)
    free = naive > 0
    return max(1.0, float(np.sqrt(np.median(clustered[free] / naive[free]))))


def _weighted_px(told: Told) -> float:
    """The rms residual, each by the information that it brings: along an edge it may be large, and
    says little."""
    network = told.network
    information = (network.bundle.weights**2).sum()
    return float(np.sqrt((network.residuals**2).sum() / information))


def _bending(told: Told) -> dict[str, Any] | None:
    """By how much the facts bend the path; None where they only lay it down."""
    bending = told.network.bending
    if bending is None:
        return None
    return {
        "metres": _number(bending.metres),
        "frame": _solved_frames(told)[bending.camera],
        "with_px": _number(bending.with_px),
        "without_px": _number(bending.without_px),
        "bent": told.bent is None,
    }


# The lens
# --------------------------------------------------------------------------------------------------


def _lens_values(told: Told, camera: Camera) -> dict[str, Any]:
    degrees = [
        math.degrees(angle)
        for angle in (camera.view.horizontal, camera.view.vertical, camera.view.diagonal)
    ]
    focal = camera.lens.focal_mm if told.evidence.has_gate else None
    view = dict(zip(("horizontal", "vertical", "diagonal"), map(_number, degrees)))
    # A zoom has one of each per frame: they stand with the path.
    zooms = told.evidence.zooms
    return {
        "focal_px": None if zooms else [_number(v) for v in camera.focal_px],
        "focal_mm": None if zooms else _number(focal),
        "field_of_view_deg": None if zooms else view,
        "principal_point_px": [_number(v) for v in camera.principal_point_px],
        "distortion": dict(zip(COEFFICIENTS, map(_number, camera.lens.coefficients))),
    }


def _lens_plus_minus(told: Told, camera: Camera) -> dict[str, Any]:
    sigma = told.lens_sigma
    mm_per_px = told.evidence.grid.mm_per_px
    focal, zooms = camera.lens.focal_mm * sigma[0], told.evidence.zooms
    return {
        "focal_px": None if zooms else [_number(v * sigma[0]) for v in camera.focal_px],
        "focal_mm": None if zooms else _number(focal if told.evidence.has_gate else None),
        "principal_point_px": [_number(sigma[1 + axis] / mm_per_px[axis]) for axis in range(2)],
        "distortion": {
            name: _number(sigma[3 + index])
            for index, name in enumerate(COEFFICIENTS)
            if told.evidence.free_lens[3 + index]
        },
    }


def _determined(told: Told) -> dict[str, str]:
    """Per quantity: solved, given, or no."""
    free, placed = told.evidence.free_lens, told.network.placed
    focal_given = told.evidence.focal_mm is not None
    nodal = told.kind == "nodal"

    def answer(*quantities: str) -> str:
        return "no" if any(placed.is_open(quantity) for quantity in quantities) else "solved"

    return {
        "focal": "given" if focal_given else "solved",
        "principal_point": "solved" if free[1] else "given",
        "distortion": "solved" if free[3:].any() else "given",
        "direction": answer("tilt_roll"),
        "heading": answer("pan"),
        "position": "no" if nodal else answer("x", "y", "z"),
        "scale": "no" if nodal else answer("scale"),
    }


def _missing(told: Told, determined: dict[str, str]) -> list[dict[str, Any]]:
    out: list[dict[str, Any]] = [
        {"quantity": name, "would_settle": SETTLES[name]}
        for name in SETTLES
        if determined[name] == "no" and not (told.kind == "nodal" and name in ("scale", "position"))
    ]
    if told.kind == "nodal":
        out.append(
            {
                "quantity": "distances",
                "would_settle": (
                    "nothing in these frames: a camera that only turns shows no parallax"
                ),
            }
        )
    unsolved = [int(f) for f in told.evidence.frames if f not in set(_solved_frames(told))]
    if unsolved:
        out.append(
            {
                "quantity": "frames",
                "frames": unsolved,
                "would_settle": "eight tracks or more there that are seen on other frames too",
            }
        )
    return out


def _solved_frames(told: Told) -> list[int]:
    return told.evidence.frames[told.network.frames].tolist()


# The path
# --------------------------------------------------------------------------------------------------


def _path(told: Told, determined: dict[str, str]) -> dict[str, Any]:
    """One entry per frame of the range in each list; null where a frame has no camera."""
    network, evidence = told.network, told.evidence
    state = network.state
    variance = told.camera_variances
    count = len(evidence.frames)
    angles = np.degrees([angles_from_rotation(rotation) for rotation in state.rotations])
    tracks = network.use.sum(axis=1)
    total = np.where(network.use, told.residuals_px**2, 0.0).sum(axis=1)
    squares = np.where(tracks > 0, total / np.maximum(tracks, 1), np.nan)
    focal = np.exp(state.lens[0] + state.zoom)
    if not evidence.has_gate:
        focal = focal * evidence.grid.px_linear[1, 1]
    focal_sigma = focal * told.lens_sigma[0]
    if evidence.zooms:
        focal_sigma = focal * np.sqrt(np.maximum(variance[:, 6], 0))
    poses = np.tile(np.eye(4), (len(state.rotations), 1, 1))
    poses[:, :3, :3], poses[:, :3, 3] = state.rotations, state.positions
    is_nodal = told.kind == "nodal"
    columns: dict[str, Array] = {
        "position_m": np.full_like(state.positions, np.nan) if is_nodal else state.positions,
        "position_plus_minus_m": np.sqrt(np.maximum(variance[:, 3:6], 0)),
        "pan_deg": angles[:, 0],
        "tilt_deg": angles[:, 1],
        "roll_deg": angles[:, 2],
        "direction_plus_minus_deg": _direction_sigma(told),
        "focal_mm": focal,
        "focal_plus_minus_mm": focal_sigma,
        "world_from_camera": poses,
    }
    if is_nodal:
        columns["position_plus_minus_m"] = columns["position_m"]
    out: dict[str, Any] = {"frames": evidence.frames.tolist()}
    for name, values in columns.items():
        whole = np.full((count, *values.shape[1:]), np.nan)
        whole[network.frames] = values
        out[name] = _list(whole)
    names, covariances = leaning.frame_covariances(told)
    lower = np.tril_indices(len(names))
    whole = np.full((count, len(lower[0])), np.nan)
    whole[network.frames] = covariances[:, lower[0], lower[1]]
    out["covariance_of"], out["covariance"] = names, _list(_digits(whole, 6))
    out["residual_px"] = _list(np.sqrt(squares / 2))
    out["tracks"] = tracks.tolist()
    out["jerk"] = _list(_jerks(told))
    return out


def _direction_sigma(told: Told) -> Array:
    """(F, 3) degrees: ± of pan, tilt and roll, the larger of both estimates."""
    out = []
    for camera, rotation in enumerate(told.network.state.rotations):
        slopes = angle_slopes(rotation)
        variances = [
            np.einsum("ij,jk,ik->i", slopes, spread.cameras[camera, :3, :3], slopes)
            for spread in (told.naive, told.clustered)
        ]
        out.append(np.degrees(np.sqrt(np.maximum(np.maximum(*variances), 0))))
    return np.array(out).reshape(-1, 3)


def _jerks(told: Told) -> Array:
    """(F,) of each frame how far its place is from between its neighbours', over its ±; NaN at the
    ends."""
    positions = told.network.state.positions
    sigma = np.sqrt(np.maximum(told.camera_variances[:, 3:6].sum(axis=1), 1e-30))
    out = np.full(len(told.evidence.frames), np.nan)
    if len(positions) < 3 or told.kind == "nodal":
        return out
    off = np.linalg.norm(positions[1:-1] - (positions[:-2] + positions[2:]) / 2, axis=1)
    typical = np.maximum(sigma[1:-1], np.median(off))
    out[told.network.frames[1:-1]] = off / typical
    return out


def _points(told: Told) -> dict[str, Any]:
    network, ids = told.network, told.evidence.tracks.ids
    if told.kind == "nodal":
        return {}
    naive, clustered = _diagonals(told.naive.points), _diagonals(told.clustered.points)
    sigma = np.sqrt(np.maximum(np.maximum(naive, clustered), 0))
    leverages = leaning.leverages(told.solved, told.naive)
    unknowns = max(int(network.bundle.freedom.cameras.sum() + network.bundle.freedom.lens.sum()), 1)
    residual = told.residuals_px[:, network.tracks]
    seen = np.isfinite(residual).sum(axis=0)
    squares = np.nansum(residual**2, axis=0)
    places, plus_minus = _list(network.state.points), _list(sigma)
    out = {}
    for number, track in enumerate(network.tracks):
        count = int(seen[number])
        out[ids[track]] = {
            "world_m": places[number],
            "plus_minus_m": plus_minus[number],
            "observations": count,
            "leverage": _number(round(leverages[number] / unknowns, 6)),
            "residual_px": _number(math.sqrt(squares[number] / count / 2)) if count else None,
        }
    return out


def _left_out(told: Told) -> dict[str, Any]:
    """The tracks that don't take part, and those of which some sightings don't, with the reason."""
    network, sightings = told.network, told.sightings
    ids, seen = told.evidence.tracks.ids, sightings.seen
    used = network.use.sum(axis=0)
    total = seen.sum(axis=0)
    out: dict[str, Any] = {}
    part = set(network.tracks.tolist())
    known = {equation.id for equation in network.facts.equations}
    for track, id_ in enumerate(ids):
        if total[track] == 0 or used[track] == total[track] or id_ in known:
            continue
        if track not in part and total[track] < 2:
            reason = "seen on one frame only"
        elif track not in part or used[track] < 2:
            reason = "doesn't fit one point that stands still, or its rays hardly differ"
        else:
            reason = "some of its places don't fit the others"
        out[id_] = {"observations": int(total[track] - used[track]), "reason": reason}
    return out


# In words
# --------------------------------------------------------------------------------------------------


def _uses_clusters(told: Told) -> bool:
    """Whether the clustered estimate is the larger one for most cameras."""
    naive, clustered = _diagonals(told.naive.cameras), _diagonals(told.clustered.cameras)
    free = naive > 0
    return bool(free.any() and np.median(clustered[free] / naive[free]) > 1.05)


def _diagonals(matrices: Array) -> Array:
    return np.einsum("...ii->...i", matrices)


def _number(value: Any) -> float | None:
    """A finite number to twelve digits, or null."""
    if value is None or not math.isfinite(value):
        return None
    return float(f"{float(value):.12g}")


def _digits(values: Array, digits: int) -> Array:
    """Rounded to so many significant digits."""
    with np.errstate(all="ignore"):
        unit = 10.0 ** (np.floor(np.log10(np.abs(values))) - digits + 1)
        return np.where(values == 0, 0.0, np.round(values / unit) * unit)


def _list(values: Array) -> Any:
    """Nested lists of numbers to twelve digits; of a table a row that isn't finite becomes null, of
    one row a number."""
    finite = np.isfinite(values)
    if finite.all():
        written = "%.12g " * values.size % tuple(values.ravel().tolist())
        return np.array(written.split(), float).reshape(values.shape).tolist()
    if values.ndim < 2:
        return [_number(value) for value in values.tolist()] if values.ndim else None
    return [_list(row) if one.all() else None for row, one in zip(values, finite)]

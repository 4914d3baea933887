"""A first path: two frames, then more, by resection and triangulation.

From one assumed focal length. Two keyframes give a relative pose by their essential matrix (Nistér
2004), the points that both see are triangulated, each further frame is placed by the points it sees
(resection, in OpenCV's RANSAC with SQPnP: Terzakis and Lourakis 2020), and small bundle adjustments
keep errors from growing.

All sightings are taken through the lens of the moment to normalised coordinates, y down, so that
the pose conventions of OpenCV hold here: x_cam = R (X − C), looking along +z. `FLIP` turns them
into this project's camera space.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import cv2
import numpy as np

from aperture.arrays import Array
from aperture.path.arc import Arc, Together
from aperture.path.bundle import Bundle
from aperture.path.imaging import Optics
from aperture.path.pairs import best_pair
from aperture.path.problem import Freedom, HasLens, Row, State, reweighted
from aperture.path.sightings import Sightings
from aperture.path.survey import Survey

FLIP = np.diag([1.0, -1.0, -1.0])
# Points that a frame must see to be placed by them.
LEAST_POINTS = 8
# Of surveyed ones so many do: they aren't wrong together with the camera.
LEAST_KNOWN = 6
# The share of a frame's points that must agree with a pose by all of them.
MOST_AGREE = 0.6
# Surveyed points that hold a path.
LEAST_SURVEYED = 4
# Huber's loss: beyond this many robust σ residuals count linearly, and beyond that many they don't
# count.
HUBER_SIGMAS, OUTLIER_SIGMAS = 3.0, 5.0
# Changes of ln focal length that are tried for a frame of a zoom.
ZOOM_STEPS = (0.0, -0.08, 0.08, -0.2, 0.2)
# A share of a frame's points that agree, with which no other focal length is tried.
ENOUGH_AGREE = 0.6


@dataclass(frozen=True)
class LensPrior:
    """What is assumed of the lens while a path is looked for: values (8,) and their σ, inf where
    nothing is.

    zoom (F,): of each frame of a zoom the ln of its focal length over the lens's; zoom_sigma (F,):
    its σ.
    """

    values: Array
    sigma: Array
    zoom: Array | None = None
    zoom_sigma: Array | None = None

    def on(self, frames: Array) -> LensPrior:
        """The same for some frames."""
        if self.zoom is None or self.zoom_sigma is None:
            return self
        return replace(self, zoom=self.zoom[frames], zoom_sigma=self.zoom_sigma[frames])

    def rows(self, state: HasLens) -> list[Row]:
        """One equation per value with a σ."""
        out = []
        if self.zoom is not None and self.zoom_sigma is not None:
            slopes = np.zeros((len(self.zoom), 7))
            slopes[:, 6] = 1 / self.zoom_sigma
            off = (state.zoom - self.zoom) / self.zoom_sigma
            out = [
                Row(float(value), camera=camera, by_camera=slope)
                for camera, (value, slope) in enumerate(zip(off, slopes))
            ]
        for index in np.flatnonzero(np.isfinite(self.sigma)):
            slope = np.zeros(len(self.sigma))
            slope[index] = 1 / self.sigma[index]
            residual = (state.lens[index] - self.values[index]) / self.sigma[index]
            out.append(Row(float(residual), by_lens=slope))
        return out


@dataclass
class Growing:
    """A path while it grows. posed (F,): frames that have a pose; use (F, T): observations that are
    believed.

    zoom (F,): of each frame the ln of its focal length over the lens's; zooms: whether it is solved
    for. survey: the points that are known, which hold it. in_world: whether it is about where it
    belongs already. arc: on which the cameras are held. wary: whether sightings are judged before
    the first adjustment too, as one that slides pulls a path of centimetres anywhere.
    """

    sightings: Sightings
    optics: Optics
    free_lens: Array
    lens: Array
    prior: LensPrior | None
    rotations: Array = field(init=False)
    positions: Array = field(init=False)
    posed: Array = field(init=False)
    points: Array = field(init=False)
    use: Array = field(init=False)
    zoom: Array = field(init=False)
    zooms: bool = False
    survey: Survey | None = None
    in_world: bool = False
    arc: Arc | None = None
    wary: bool = False
    scale: float = 1.0  # robust size of the residuals, in their σ

    def __post_init__(self) -> None:
        frames, tracks = self.sightings.seen.shape
        self.rotations = np.tile(np.eye(3), (frames, 1, 1))
        self.positions = np.zeros((frames, 3))
        self.posed = np.zeros(frames, bool)
        self.points = np.full((tracks, 3), np.nan)
        self.use = self.sightings.seen.copy()
        if self.survey is not None:
            self.points[self.surveyed] = self.survey.places[self.surveyed]
        guess = self.prior.zoom if self.prior is not None else None
        self.zoom = np.zeros(frames) if guess is None else guess.copy()

    @property
    def surveyed(self) -> Array:
        """(T,) of bool: tracks whose points the survey has."""
        if self.survey is None:
            return np.zeros(self.sightings.seen.shape[1], bool)
        return self.survey.known

    @property
    def placed(self) -> Array:
        """(T,) of bool: tracks that have a point."""
        return np.isfinite(self.points[:, 0])

    @property
    def focal_px(self) -> float:
        """Down the picture; of a zoom the one in the middle."""
        return float(np.median(self.focals_px))

    @property
    def focals_px(self) -> Array:
        """(F,) down the picture."""
        linear = self.sightings.grid.px_linear
        return np.exp(self.lens[0] + self.zoom) * np.linalg.norm(linear[:, 1])

    def normalised(self, frames: Array, tracks: Array | None = None) -> Array:
        """(F', T', 2) the sightings of some frames, and of all tracks or some, through the lens of
        the moment."""
        lens = self.optics.lens.with_parameters(self.lens)
        return self.sightings.on(frames, tracks).zoomed(lens, self.zoom[frames])

    # Places
    # ----------------------------------------------------------------------------------------------

    def begin(self, keys: list[int]) -> float | None:
        """Pose the pair of keyframes with the widest, best supported relative pose; its angle in
        degrees, or None."""
        best = best_pair(keys, self.normalised(np.array(keys)), self.focals_px[keys])
        if best is None:
            return None
        rotation, position, angle, first, second = best
        self.rotations[first], self.positions[first] = FLIP, np.zeros(3)
        self.rotations[second], self.positions[second] = rotation.T @ FLIP, position
        self.posed[[first, second]] = True
        self.triangulate(least_deg=0.3, most_px=6.0)
        return angle

    def triangulate(
        self, least_deg: float, most_px: float, near: int | None = None, reach: int = 12
    ) -> None:
        """Points for tracks that have none: where their rays meet.

        least_deg: the angle that the rays must span; most_px: the median distance in the picture.
        near: only from frames within `reach` of this one.
        """
        frames = np.flatnonzero(self.posed)
        if near is not None:
            frames = frames[np.abs(frames - near) <= reach]
        without = np.flatnonzero(self.use[frames].any(axis=0) & ~self.placed)
        own = self._rays(frames, without)
        row, column = np.nonzero(self.use[np.ix_(frames, without)] & np.isfinite(own[:, :, 0]))
        if not len(row):
            return
        own, track = own[row, column], without[column]
        rays = np.einsum("nij,nj->ni", self.rotations[frames[row]], own)
        origin = self.positions[frames[row]]
        across = np.eye(3) - rays[:, :, None] * rays[:, None, :]
        count = len(self.points)
        normal, right, views = np.zeros((count, 3, 3)), np.zeros((count, 3)), np.zeros(count)
        np.add.at(normal, track, across)
        np.add.at(right, track, np.einsum("nij,nj->ni", across, origin))
        np.add.at(views, track, 1)
        several = np.flatnonzero(views >= 2)
        least = np.linalg.eigvalsh(normal[several])[:, 0] / views[several]
        angle = 2 * np.degrees(np.arcsin(np.sqrt(np.clip(least, 0, 1))))
        wide = several[angle >= least_deg]
        if not len(wide):
            return
        places = np.full((count, 3), np.nan)
        places[wide] = np.linalg.solve(normal[wide], right[wide][:, :, None])[:, :, 0]
        q = np.einsum("nij,ni->nj", self.rotations[frames[row]], places[track] - origin)
        off = self._apart(own, q) * self.focals_px[frames[row]]
        order = np.lexsort((off, track))
        starts = np.searchsorted(track[order], np.arange(count + 1))
        for point in wide:
            mine = off[order[starts[point] : starts[point + 1]]]
            if mine[len(mine) // 2] < most_px and np.isfinite(mine[-1]):
                self.points[point] = places[point]

    def _rays(self, frames: Array, tracks: Array) -> Array:
        """(F', T', 3) unit directions in camera space of the sightings of some tracks on some
        frames."""
        lens = self.optics.lens.with_parameters(self.lens)
        if lens.projection.around:
            return self.sightings.on(frames, tracks).rays(lens)
        x = self.normalised(frames, tracks)
        rays = np.concatenate([x * [1, -1], -np.ones((*x.shape[:2], 1))], axis=2)
        return rays / np.linalg.norm(rays, axis=2, keepdims=True)

    def _apart(self, rays: Array, q: Array) -> Array:
        """(n,) how far points q (n, 3) in camera space are seen from unit rays (n, 3), in focal
        lengths; infinite behind."""
        with np.errstate(all="ignore"):
            if self.optics.lens.projection.around:
                away = q / np.linalg.norm(q, axis=1, keepdims=True)
                off = np.linalg.norm(away - rays, axis=1)
                off[~((away * rays).sum(axis=1) > 0)] = np.inf
                return off
            at, own = (np.stack([one[:, 0], -one[:, 1]], axis=1) / -one[:, 2:] for one in (q, rays))
            off = np.linalg.norm(at - own, axis=1)
        off[~(q[:, 2] < 0)] = np.inf
        return off

    def resect(self, frame: int, most_px: float) -> bool:
        """Pose a frame by the points that it sees; whether that worked.

        Of a zoom focal lengths about the one that the picture's growth since the nearest posed
        frame suggests are tried; the one by which most points agree is then solved for with the
        pose.
        """
        if not self.zooms:
            return self._resected(frame, most_px) is not None
        posed = np.flatnonzero(self.posed)
        near = posed[np.argmin(np.abs(posed - frame))]
        guess = self.prior.zoom if self.prior is not None and self.prior.zoom is not None else None
        since = guess[frame] - guess[near] if guess is not None else 0.0
        begin, best = self.zoom[near] + since, np.zeros(0, int)
        seen = np.count_nonzero(self.placed & self.use[frame])
        for step in ZOOM_STEPS:
            self.zoom[frame] = begin + step
            agreeing = self._resected(frame, most_px)
            if agreeing is not None and len(agreeing) > len(best):
                best = agreeing
                pose = self.rotations[frame].copy(), self.positions[frame].copy(), self.zoom[frame]
            if len(best) > ENOUGH_AGREE * seen:
                break
        self.posed[frame] = bool(len(best))
        if not len(best):
            return False
        self.rotations[frame], self.positions[frame], self.zoom[frame] = pose
        self._refine(frame, best)
        return True

    def _refine(self, frame: int, tracks: Array) -> None:
        """Pose and focal length of one frame by points (n,) that stay where they are."""
        at = np.full(len(tracks), frame), tracks
        observations = self.sightings.observations(
            np.zeros(len(tracks), int), np.arange(len(tracks)), at
        )
        state = State(
            self.rotations[[frame]],
            self.positions[[frame]],
            self.zoom[[frame]],
            self.lens.copy(),
            self.points[tracks],
        )
        freedom = Freedom(np.ones((1, 7), bool), np.zeros(8, bool), np.ones((len(tracks), 3), bool))
        prior = self.prior.on(np.array([frame])) if self.prior is not None else None
        bundle = Bundle(observations, self.optics, state, freedom, prior, threads=1)
        bundle.solve(most=10, least_gain=1e-2)
        self.rotations[frame] = bundle.state.rotations[0]
        self.positions[frame] = bundle.state.positions[0]
        self.zoom[frame] = bundle.state.zoom[0]

    def _resected(self, frame: int, most_px: float) -> Array | None:
        """Pose a frame with the lens that it has; the tracks that agree, or None where it can't be
        posed."""
        own = self.normalised(np.array([frame]))[0]
        tracks = np.flatnonzero(self.placed & self.use[frame] & np.isfinite(own[:, 0]))
        known = np.count_nonzero(self.surveyed[tracks]) >= LEAST_KNOWN
        least = LEAST_KNOWN if known else LEAST_POINTS
        if len(tracks) < least:
            return None
        points, x = self.points[tracks], np.ascontiguousarray(own[tracks])
        middle = points.mean(axis=0)
        limit = most_px / self.focals_px[frame]
        found = _pose(points - middle, x, limit, least)
        if found is None:
            return None
        rotation, shift, of = found
        self.rotations[frame] = rotation.T @ FLIP
        self.positions[frame] = middle - rotation.T @ shift
        self.posed[frame] = True
        return tracks[of]

    # Adjustment
    # -------------------------------------------------------------------------------------------

    def bundle(
        self, frames: Array, factor: Array | None = None, threads: int = 1
    ) -> tuple[Bundle, Array, Array]:
        """The equations of some frames, and the (row, track) of each observation.

        The survey holds it, or else the first frame's pose, and the coordinate of the farthest
        frame along which it is farthest.
        """
        use = self.use[frames] & self.placed
        use &= use.sum(axis=0) >= 2
        tracks = np.flatnonzero(use.any(axis=0))
        row, column = np.nonzero(use[:, tracks])
        at = frames[row], tracks[column]
        observations = self.sightings.observations(row, column, at)
        if factor is not None:
            observations = reweighted(observations, factor)
        positions = self.positions[frames]
        free = np.ones((len(frames), 7 if self.zooms else 6), bool)
        survey = self.survey.on(tracks) if self.survey is not None else None
        held = np.zeros((len(tracks), 3), bool) if survey is None else survey.held
        if survey is None or np.count_nonzero(survey.known) < LEAST_SURVEYED:
            free[0, :6] = False
            away = np.abs(positions - positions[0])
            far, axis = np.unravel_index(np.argmax(away), away.shape)
            free[far, 3 + axis] = False
        extra = self.arc.values if self.arc is not None else np.zeros(0)
        state = State(
            self.rotations[frames],
            positions,
            self.zoom[frames],
            self.lens.copy(),
            self.points[tracks],
            extra.copy(),
        )
        freedom = Freedom(free, self.free_lens, held, np.ones(len(extra), bool))
        prior = self.prior.on(frames) if self.prior is not None else None
        facts = Together(tuple(one for one in (prior, self.arc, survey) if one is not None))
        bundle = Bundle(observations, self.optics, state, freedom, facts, threads=threads)
        return bundle, row, tracks[column]

    def adjust(
        self,
        frames: Array | None = None,
        rounds: int = 1,
        most: int = 8,
        threads: int = 1,
    ) -> Array:
        """Robust bundle adjustments of the posed frames; unbelievable observations are left out.
        Residuals (F, T), in σ."""
        frames = np.flatnonzero(self.posed) if frames is None else np.asarray(frames)
        factor = None
        for _ in range(rounds):
            bundle, row, track = self.bundle(frames, factor, threads)
            if self.wary and factor is None:
                residuals, _ = bundle.residuals(bundle.state)
                sigmas = np.nan_to_num(np.linalg.norm(residuals, axis=1), nan=1e6)
                factor = self._judged(_beside_frames(sigmas, row, len(frames)))
                bundle, row, track = self.bundle(frames, factor, threads)
            bundle.solve(most=most, least_gain=1e-2)
            self._take(bundle, frames, np.flatnonzero(np.bincount(track)))
            residuals, _ = bundle.residuals(bundle.state)
            sigmas = np.linalg.norm(residuals, axis=1)
            if factor is not None:
                sigmas = sigmas * factor
            sigmas = np.nan_to_num(sigmas, nan=1e6)
            factor = self._judged(sigmas)
        out = np.full(self.use.shape, np.nan)
        out[frames[row], track] = sigmas
        bad = sigmas > max(OUTLIER_SIGMAS * self.scale, 0.5)
        self.use[frames[row[bad]], track[bad]] = False
        return out

    def _judged(self, sigmas: Array) -> Array:
        """By what the σ of observations is multiplied whose residuals are so many of it; `scale` is
        put to their robust size."""
        self.scale = max(0.1, float(np.median(sigmas)) / 1.1774)
        factor = np.sqrt(np.maximum(sigmas / (HUBER_SIGMAS * self.scale), 1.0))
        factor[sigmas > 8 * self.scale] = 1e4
        return factor

    def _take(self, bundle: Bundle, frames: Array, tracks: Array) -> None:
        state = bundle.state
        self.rotations[frames], self.positions[frames] = state.rotations, state.positions
        self.points[tracks], self.lens, self.zoom[frames] = state.points, state.lens, state.zoom
        if self.arc is not None:
            self.arc.values = state.extra

    def believe_all(self) -> None:
        """Give observations that were left out another chance."""
        self.use = self.sightings.seen.copy()


def _beside_frames(sigmas: Array, row: Array, frames: int) -> Array:
    """Residuals (N,) with what all of a frame have in common taken off, row (N,) being their frame:
    where most are large, it is the frame that stands wrong yet, not its sightings."""
    usual = float(np.median(sigmas))
    own = np.array([np.median(sigmas[row == frame]) for frame in range(frames)])
    return sigmas / np.maximum(own / max(usual, 1e-9), 1.0)[row]


def _pose(points: Array, x: Array, limit: float, least: int) -> tuple[Array, Array, Array] | None:
    """The pose of a frame that sees points (n, 3) at x (n, 2); None where fewer than `least` agree
    with one.

    Rotation camera from world (3, 3), shift (3,), and the rows that agree within a limit.

    First by all points: most of them are right more often than not. Samples of four are tried where
    that isn't so; of points on a plane they say little.
    """
    every = np.arange(len(points))
    try:
        of = every
        for _ in range(3):
            good, turn, shift = cv2.solvePnP(
                points[of], x[of], np.eye(3), None, flags=cv2.SOLVEPNP_SQPNP
            )
            if not good:
                break
            of = every[_off(points, x, turn, shift) < limit]
            if len(of) < least:
                break
        if not good or len(of) < max(least, MOST_AGREE * len(every)):
            good, turn, shift, inliers = cv2.solvePnPRansac(
                points,
                x,
                np.eye(3),
                None,
                iterationsCount=300,
                reprojectionError=limit,
                confidence=0.999,
                flags=cv2.SOLVEPNP_SQPNP,
            )
            if not good or inliers is None or len(inliers) < least:
                return None
            of = inliers.ravel()
        turn, shift = cv2.solvePnPRefineLM(points[of], x[of], np.eye(3), None, turn, shift)
    except cv2.error:
        return None
    if not np.isfinite(shift).all():
        return None
    return cv2.Rodrigues(turn)[0], shift.ravel(), of


def _off(points: Array, x: Array, turn: Array, shift: Array) -> Array:
    """(n,) how far from x points are seen; inf behind the camera."""
    p = points @ cv2.Rodrigues(turn)[0].T + shift.ravel()
    with np.errstate(all="ignore"):
        off = np.linalg.norm(p[:, :2] / p[:, 2:] - x, axis=1)
    return np.where(p[:, 2] > 0, off, np.inf)

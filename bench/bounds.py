"""How well a simulated path can be known at all: the Cramér–Rao bound, from the derivatives at the
truth. No unbiased estimate has a smaller ±, however it is made."""

import numpy as np

from aperture.path.bundle import Bundle
from aperture.path.covariance import Solved
from aperture.path.facts import PathFacts, PointCoordinate
from aperture.path.imaging import Optics
from aperture.path.problem import Freedom, Observations, State
from tests.moving import GRID, Scene


def of_focal(made: Scene, sigma: float = 0.2, known: int = 4, plus_minus: float = 0.005) -> float:
    """Of the focal length, as a share of it, with k1 free and the places of some tracks known; if
    all tracks are good."""
    camera, point = np.nonzero(np.isfinite(made.seen[:, :, 0]))
    frames, lens = len(made.cameras), made.cameras[0].lens
    rotations = np.array([camera.rotation for camera in made.cameras])
    state = State(
        rotations, made.positions, np.zeros(frames), lens.parameters.copy(), made.points.copy()
    )
    longest = np.argsort(-np.bincount(point), kind="stable")[:known].tolist()
    facts = [
        PointCoordinate("", plus_minus, index, axis, float(made.points[index, axis]))
        for index in longest
        for axis in range(3)
    ]
    solved = np.zeros(8, bool)
    solved[[0, 3]] = True
    freedom = Freedom(np.ones((frames, 6), bool), solved, np.zeros(made.points.shape, bool))
    xy = made.seen[camera, point]
    seen = Observations(camera, point, xy, np.full(xy.shape, sigma))
    bundle = Bundle(seen, Optics(GRID, lens), state, freedom, PathFacts(facts))
    return float(np.sqrt(Solved(bundle).spread().lens[0, 0]))

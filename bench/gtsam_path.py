"""The reference of `bench.moving_cameras`: the same bundle in GTSAM, from the same start, on one
core."""

import time

import gtsam
import numpy as np
from gtsam.symbol_shorthand import K, L, X

from tests.moving import GRID

MOST = 30  # iterations
FLIP = np.diag([1.0, -1.0, -1.0])


def seconds_per_iteration(bundle, state) -> float:
    """CPU seconds of a Levenberg–Marquardt iteration of GTSAM on a bundle's problem.

    Of the quickest one, as other work on the machine only ever adds to it.
    """
    graph, values = gtsam.NonlinearFactorGraph(), gtsam.Values()
    noise = gtsam.noiseModel.Isotropic.Sigma(2, 0.3)
    points = bundle.order[bundle.point]
    middle = [GRID.width / 2, GRID.height / 2]
    for camera, point, xy in zip(bundle.camera, points, bundle.xy - middle):
        graph.add(
            gtsam.GeneralSFMFactor2Cal3Bundler(xy, noise, X(int(camera)), L(int(point)), K(0))
        )
    for number, (rotation, place) in enumerate(zip(state.rotations, state.positions)):
        values.insert(X(number), gtsam.Pose3(gtsam.Rot3(rotation @ FLIP), place))
    exact = gtsam.noiseModel.Isotropic.Sigma(6, 1e-7)
    graph.add(gtsam.PriorFactorPose3(X(0), values.atPose3(X(0)), exact))
    last = len(state.positions) - 1
    apart = float(np.linalg.norm(state.positions[last] - state.positions[0]))
    sigma = gtsam.noiseModel.Isotropic.Sigma(1, 1e-3)
    graph.add(gtsam.RangeFactorPose3(X(0), X(last), apart, sigma))
    for number, place in enumerate(state.points):
        values.insert(L(number), place)
    focal = float(np.exp(state.lens[0])) / 24 * 1920
    values.insert(K(0), gtsam.Cal3Bundler(focal, state.lens[3], state.lens[4], 0, 0))
    parameters = gtsam.LevenbergMarquardtParams()
    parameters.setlambdaInitial(1e-4)
    optimiser = gtsam.LevenbergMarquardtOptimizer(graph, values, parameters)
    error, before, taken = optimiser.error(), np.inf, []
    while before - error > 1e-6 * error and len(taken) < MOST:
        began = time.process_time()
        optimiser.iterate()
        taken.append(time.process_time() - began)
        error, before = optimiser.error(), error
    return min(taken)

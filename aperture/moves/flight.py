"""How an aircraft would fly a keyed route: a model of thrust, drag and response.

The aircraft is a mass that its rotors push along their common axis, against gravity and drag:

    dv/dt = f − g · up − (k / m) |v| v

with the thrust's acceleration f. It can push upwards only, by at most its greatest thrust, tilted
by at most its greatest angle; and it follows what is asked with a first-order response of time
constant τ, df/dt = (f_asked − f) / τ.

First the route gets a speed that the aircraft can hold. In a curve of radius r a level turn needs
the bank φ with tan φ = v² / (g r) (the coordinated turn; Federal Aviation Administration, Pilot's
Handbook of Aeronautical Knowledge, chapter 5, cited from memory), so that the greatest tilt bounds
v there; what it can gain and lose in speed bounds it before and after. On the straights it goes
faster than the keys say, as far as that makes up for the curves. Then it flies: f_asked is the
acceleration of the route as it will be τ later, plus a correction for where it is beside it, plus
gravity and drag.

In level flight at the greatest tilt θ thrust and drag balance at the terminal speed
v = √(m g tan θ / k).

The camera looks where the aircraft goes, its pan and tilt behind by a lag; it rolls with the bank,
ahead by a lead, so that it leans before the picture turns. The nose goes down to speed up. It never
points up in a climb: such an aircraft climbs on its thrust.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from fractions import Fraction
from typing import Any

import numpy as np
from numba import njit

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.rotation import rotations_from_angles
from aperture.moves.move import Move
from aperture.moves.readings import readings

G = 9.80665  # m/s², standard gravity
STEPS = 8  # of the simulation for each frame
MOST_SAMPLES = 20_000
# Of what the tilt allows, how much a turn may take, and speeding up or slowing down, so that
# something is left to correct with.
TURN_SHARE, ALONG_SHARE = 0.9, 0.6
STILL = 0.05  # m/s: slower than this has no direction
CLIMB, NOSE_UP = 0.3, 1.0  # m/s and degrees from which a climb with the nose up is one
FASTER = 3.0  # at most, than the keys say


@dataclass(frozen=True)
class Aircraft:
    """What flies, and how its camera follows.

    Parameters
    ----------
    mass_kg : float
    thrust_n : float
        The greatest.
    drag : float
        k in k |v| v, newtons at 1 m/s.
    tilt_deg : float
        The greatest tilt of the thrust.
    response_s : float
        Time constant with which thrust and tilt follow.
    pan_lag, tilt_lag : float
        By how many frames the camera's pan and tilt trail.
    roll_lead : float
        By how many frames its roll is ahead.
    bank_per_g : float, optional
        Degrees of roll for 1 g sideways; the aircraft's own bank if not given.
    nose_share : float
        How much of the nose's pitch the camera shows, 0 of one on a levelled mount.
    looks : str
        "ahead", where it flies, or "keys", where the keys point.
    """

    mass_kg: float = 1.0
    thrust_n: float = 40.0
    drag: float = 0.02
    tilt_deg: float = 70.0
    response_s: float = 0.1
    pan_lag: float = 3.0
    tilt_lag: float = 3.0
    roll_lead: float = 3.0
    bank_per_g: float | None = None
    nose_share: float = 0.5
    looks: str = "ahead"

    def __post_init__(self) -> None:
        if not (self.mass_kg > 0 and self.drag >= 0 and self.response_s >= 0):
            raise Problem("An aircraft has a mass, and no negative drag or response time.")
        if not self.thrust_n > self.mass_kg * G:
            raise Problem(
                f"A thrust of {self.thrust_n:g} N doesn’t lift {self.mass_kg:g} kg: more than "
                f"{self.mass_kg * G:.1f} N is needed.",
                "thrust_n",
            )
        if not 1 <= self.tilt_deg <= 89:
            raise Problem("The greatest tilt is 1 to 89°.", "tilt_deg")
        if not (0 <= self.pan_lag <= 500 and 0 <= self.tilt_lag <= 500):
            raise Problem("A lag is 0 to 500 frames.", "pan_lag")
        if not (-500 <= self.roll_lead <= 500 and 0 <= self.nose_share <= 1):
            raise Problem("The roll’s lead is within 500 frames, the nose’s share 0 to 1.")
        if self.looks not in ("ahead", "keys"):
            raise Problem("The camera looks “ahead”, or as the “keys” say.", "looks")

    @property
    def terminal(self) -> float:
        """The speed in level flight at the greatest tilt, m/s; infinite without drag."""
        sideways = self.mass_kg * G * np.tan(np.radians(self.tilt_deg))
        sideways = min(sideways, np.sqrt(self.thrust_n**2 - (self.mass_kg * G) ** 2))
        return float(np.sqrt(sideways / self.drag)) if self.drag > 0 else float("inf")

    @property
    def sideways(self) -> float:
        """The greatest acceleration across gravity while height is held, m/s²."""
        thrust = self.thrust_n / self.mass_kg
        return float(min(G * np.tan(np.radians(self.tilt_deg)), np.sqrt(thrust**2 - G**2)))

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


# Plausible for such aircraft; common practice, no source.
PRESETS: dict[str, tuple[str, Aircraft]] = {
    "racer": ("Small racing aircraft", Aircraft()),
    "helicopter": (
        "Camera helicopter",
        Aircraft(12.0, 230.0, 0.35, 35.0, 0.35, 6.0, 6.0, 8.0, nose_share=0.2),
    ),
    "lifter": (
        "Heavy lifter",
        Aircraft(25.0, 420.0, 0.8, 25.0, 0.6, 10.0, 10.0, 12.0, nose_share=0.0),
    ),
}


@dataclass(frozen=True, eq=False)
class Flown:
    """A flight, per frame.

    Parameters
    ----------
    move : Move
    speed, bank, pitch : ndarray, shape (F,)
        Metres per second; degrees to the right, and of the nose upwards.
    off : ndarray, shape (F,)
        Metres from where the keys say that the camera is then.
    remarks : tuple of (int, str)
        Frames at which the route asks for what can't be flown, and what that is.
    """

    move: Move
    speed: Array
    bank: Array
    pitch: Array
    off: Array
    remarks: tuple[tuple[int, str], ...] = field(default=())


def fly(move: Move, aircraft: Aircraft, rate: Fraction) -> Flown:
    """Return how an aircraft flies the route of a move.

    Parameters
    ----------
    move : Move
        As keyed, with a frame for each.
    aircraft : Aircraft
    rate : Fraction
        Frames per second.

    Raises
    ------
    Problem
        If the move has fewer than two frames.
    """
    count = len(move.frames)
    if count < 2:
        raise Problem("A flight has two frames or more.")
    step = 1 / float(rate)
    keyed = move.positions
    fine = np.arange((count - 1) * STEPS + 1) * step / STEPS
    wanted = _timed(keyed, aircraft, step, fine)
    flown, thrust = _flight(wanted, fine[1], aircraft)
    velocity = np.gradient(flown, fine, axis=0)
    frames = slice(None, None, STEPS)
    heading, slope = _direction(velocity)
    bank, pitch = _attitude(thrust, heading)
    pan, tilt, roll = _camera(move, aircraft, fine, step, heading, slope, bank, pitch, thrust)
    rotations = rotations_from_angles(np.stack([pan, tilt, roll], axis=1)[frames])
    made = Move(
        move.frames,
        rotations,
        flown[frames],
        move.half_view,
        move.focal_mm,
        move.shift,
        move.distortion,
    )
    return Flown(
        made,
        np.linalg.norm(velocity, axis=1)[frames],
        np.degrees(bank[frames]),
        np.degrees(pitch[frames]),
        np.linalg.norm(flown[frames] - keyed, axis=1),
        tuple(_remarks(move, aircraft, step)),
    )


def compile_all() -> None:
    """Fly a few frames, so that what is compiled is compiled and kept (`python -m aperture
    warm`)."""
    away = np.linspace(0, 3, 12)[:, None] * [1.0, 0.1, 0.5]
    turns, half = np.tile(np.eye(3), (12, 1, 1)), np.ones((12, 2))
    move = Move(np.arange(12), turns, away, half, np.ones(12), np.zeros(2))
    fly(move, Aircraft(), Fraction(24))
    readings(move, Fraction(24), [np.ones((1, 3, 3))])


def _timed(keyed: Array, aircraft: Aircraft, step: float, fine: Array) -> Array:
    """(T, 3) where the aircraft is to be at each moment: the route at speeds that it can hold."""
    lengths = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(keyed, axis=0), axis=1))])
    whole = lengths[-1]
    if whole < 1e-6:
        return np.tile(keyed[0], (len(fine), 1))
    grows = np.concatenate([[True], np.diff(lengths) > 1e-9 * whole])
    at, places = lengths[grows], keyed[grows]
    samples = np.linspace(0, whole, min(MOST_SAMPLES, max(200, 4 * len(keyed))))
    moments = np.interp(samples, lengths[grows], np.flatnonzero(grows) * step)
    asked = np.interp(moments, np.arange(len(lengths)) * step, np.gradient(lengths, step))
    most = _speed_limit(at, places, samples, aircraft)
    total = (len(keyed) - 1) * step

    def arrival(factor: float) -> tuple[Array, float]:
        speed = np.minimum(np.maximum(asked, STILL) * factor, most)
        speed = _within_reach(samples, speed, aircraft)
        taken = np.concatenate([[0.0], np.cumsum(2 * np.diff(samples) / (speed[1:] + speed[:-1]))])
        return taken, float(taken[-1])

    low, high = 1.0, FASTER
    taken, last = arrival(low)
    if last > total:
        for _ in range(20):
            middle = (low + high) / 2
            taken, last = arrival(middle)
            low, high = (middle, high) if last > total else (low, middle)
        taken, _ = arrival(high)
    gone = np.interp(fine, taken, samples)
    return np.stack([np.interp(gone, at, axis) for axis in places.T], axis=1)


def _speed_limit(at: Array, places: Array, samples: Array, aircraft: Aircraft) -> Array:
    """(S,) the speed that a level turn of the route's radius allows at each length, m/s."""
    most = np.full(len(samples), min(aircraft.terminal, 1e4))
    if len(at) < 3:
        return most
    tangent = np.gradient(places, at, axis=0)
    tangent /= np.maximum(np.linalg.norm(tangent, axis=1, keepdims=True), 1e-12)
    curvature = np.linalg.norm(np.gradient(tangent, at, axis=0)[:, [0, 2]], axis=1)
    bend = np.interp(samples, at, curvature)
    turn = np.sqrt(TURN_SHARE * aircraft.sideways / np.maximum(bend, 1e-9))
    return np.minimum(most, turn)


@njit(cache=True)
def _passes(samples, speed, most, drag):
    """Bound speeds by what can be gained before and lost after; forwards, then backwards."""
    out = speed.copy()
    for i in range(1, len(out)):
        gain = max(most - drag * out[i - 1] ** 2, 0.0)
        reach = np.sqrt(out[i - 1] ** 2 + 2 * gain * (samples[i] - samples[i - 1]))
        out[i] = min(out[i], reach)
    for i in range(len(out) - 2, -1, -1):
        lose = most + drag * out[i + 1] ** 2
        reach = np.sqrt(out[i + 1] ** 2 + 2 * lose * (samples[i + 1] - samples[i]))
        out[i] = min(out[i], reach)
    return out


def _within_reach(samples: Array, speed: Array, aircraft: Aircraft) -> Array:
    most = ALONG_SHARE * aircraft.sideways
    return _passes(samples, speed, most, aircraft.drag / aircraft.mass_kg)


@njit(cache=True)
def _simulate(place, velocity, acceleration, begin, dt, tau, drag, tan_tilt, thrust, g):
    """Positions (T, 3) and thrust accelerations (T, 3) of an aircraft that follows a route."""
    count = len(place)
    flown, pushed = np.empty((count, 3)), np.empty((count, 3))
    p, v = place[0].copy(), velocity[0].copy()
    f = begin.copy()
    # A correction that settles in about four response times, without swinging over.
    natural = 1.0 / (4 * max(tau, dt) + 0.2)
    stiff, damp = natural * natural, 2 * natural
    follow = 1 - np.exp(-dt / tau) if tau > 0 else 1.0
    for i in range(count):
        flown[i], pushed[i] = p, f
        speed = np.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2)
        asked = acceleration[i] + stiff * (place[i] - p) + damp * (velocity[i] - v)
        asked = asked + drag * speed * v
        asked[1] += g
        asked[1] = max(asked[1], 0.1 * g)  # rotors push upwards
        side = np.sqrt(asked[0] ** 2 + asked[2] ** 2)
        # Height first: what thrust is left goes sideways.
        asked[1] = min(asked[1], thrust)
        left = np.sqrt(max(thrust * thrust - asked[1] ** 2, 0.0))
        most = min(asked[1] * tan_tilt, left)
        if side > most:
            asked[0] *= most / side
            asked[2] *= most / side
        f = f + follow * (asked - f)
        v = v + dt * (f - drag * speed * v)
        v[1] -= dt * g
        p = p + dt * v
    return flown, pushed


def _flight(wanted: Array, dt: float, aircraft: Aircraft) -> tuple[Array, Array]:
    """(T, 3) places and (T, 3) thrust per mass of the simulated flight."""
    smooth = _smoothed(wanted, max(3, round(aircraft.response_s / dt)))
    velocity = np.gradient(smooth, dt, axis=0)
    acceleration = np.gradient(velocity, dt, axis=0)
    # What is asked arrives τ later: the acceleration is asked for so much before.
    ahead = np.minimum(np.arange(len(wanted)) + round(aircraft.response_s / dt), len(wanted) - 1)
    drag = aircraft.drag / aircraft.mass_kg
    begin = acceleration[0] + drag * np.linalg.norm(velocity[0]) * velocity[0] + [0, G, 0]
    return _simulate(
        smooth,
        velocity,
        acceleration[ahead],
        begin,
        dt,
        aircraft.response_s,
        drag,
        float(np.tan(np.radians(aircraft.tilt_deg))),
        aircraft.thrust_n / aircraft.mass_kg,
        G,
    )


def _smoothed(series: Array, width: int) -> Array:
    """Means over a window, twice, the ends continued straight: no jump is asked for."""
    out = series
    for _ in range(2):
        before = 2 * out[0] - out[width:0:-1]
        after = 2 * out[-1] - out[-2 : -width - 2 : -1]
        if len(before) < width or len(after) < width:
            return out
        padded = np.concatenate([before, out, after])
        sums = np.cumsum(np.concatenate([np.zeros((1, out.shape[1])), padded]), axis=0)
        size = 2 * width + 1
        out = (sums[size:] - sums[:-size]) / size
    return out


def _direction(velocity: Array) -> tuple[Array, Array]:
    """Heading and slope (T,), radians; where it stands still, as before, or as it will be."""
    level = np.hypot(velocity[:, 0], velocity[:, 2])
    heading = np.arctan2(-velocity[:, 0], -velocity[:, 2])
    slope = np.arctan2(velocity[:, 1], np.maximum(level, 1e-9))
    moving = level > STILL
    if not moving.any():
        return np.zeros(len(velocity)), np.zeros(len(velocity))
    index = np.arange(len(velocity))
    known = np.flatnonzero(moving)
    nearest = known[np.clip(np.searchsorted(known, index, side="right") - 1, 0, len(known) - 1)]
    return np.unwrap(heading[nearest]), np.where(moving, slope, 0.0)


def _attitude(thrust: Array, heading: Array) -> tuple[Array, Array]:
    """Bank to the right and pitch of the nose upwards (T,), radians, from the thrust's
    direction."""
    ahead = np.stack([-np.sin(heading), np.zeros(len(heading)), -np.cos(heading)], axis=1)
    right = np.stack([np.cos(heading), np.zeros(len(heading)), -np.sin(heading)], axis=1)
    up = np.maximum(thrust[:, 1], 1e-9)
    bank = np.arctan2((thrust * right).sum(axis=1), up)
    return bank, -np.arctan2((thrust * ahead).sum(axis=1), up)


def _camera(
    move: Move,
    aircraft: Aircraft,
    fine: Array,
    step: float,
    heading: Array,
    slope: Array,
    bank: Array,
    pitch: Array,
    thrust: Array,
) -> tuple[Array, Array, Array]:
    """Pan, tilt and roll (T,), radians."""
    if aircraft.looks == "keys":
        moments = np.arange(len(move.frames)) * step
        turns = move.rotations
        pan = np.unwrap(np.arctan2(turns[:, 0, 2], turns[:, 2, 2]))
        tilt = np.arcsin(np.clip(-turns[:, 1, 2], -1, 1))
        pan, tilt = np.interp(fine, moments, pan), np.interp(fine, moments, tilt)
    else:
        pan = heading
        # Down with the nose; in a climb no higher than level.
        tilt = np.minimum(slope, 0.0) + aircraft.nose_share * np.minimum(pitch, 0.0)
    dt = fine[1]
    pan = trailing(pan, aircraft.pan_lag * step, dt)
    tilt = trailing(tilt, aircraft.tilt_lag * step, dt)
    if aircraft.bank_per_g is None:
        lean = bank
    else:
        lean = np.radians(aircraft.bank_per_g) * np.tan(bank) * thrust[:, 1] / G
        most = np.radians(aircraft.tilt_deg)
        lean = np.clip(lean, -most, most)
    lean = np.interp(fine + aircraft.roll_lead * step, fine, lean)
    return pan, tilt, -lean


def trailing(series: Array, lag_s: float, dt: float) -> Array:
    """(T,) a series behind itself by a first-order response of a time constant, seconds.

    dy/dt = (x − y) / τ, exact for a series that is constant over each step; after a jump by 1 it is
    1 − exp(−t / τ), behind a ramp it stays by τ.
    """
    if lag_s <= 0:
        return series
    return _trailing(np.asarray(series, float), 1 - np.exp(-dt / lag_s))


@njit(cache=True)
def _trailing(series, follow):
    out = np.empty_like(series)
    value = series[0]
    for i in range(len(series)):
        value = value + follow * (series[i] - value)
        out[i] = value
    return out


def _remarks(move: Move, aircraft: Aircraft, step: float) -> list[tuple[int, str]]:
    """Where the keyed route, at its keyed speed, asks for what can't be flown."""
    velocity = np.gradient(move.positions, step, axis=0)
    acceleration = np.gradient(velocity, step, axis=0)
    out = []
    level = np.hypot(velocity[:, 0], velocity[:, 2])
    ahead = velocity[:, [0, 2]] / np.maximum(level, 1e-9)[:, None]
    lateral = acceleration[:, 0] * ahead[:, 1] - acceleration[:, 2] * ahead[:, 0]
    need = np.degrees(np.arctan2(np.abs(lateral), np.maximum(acceleration[:, 1] + G, 1e-3)))
    need[level < STILL] = 0
    for frame, value in _worst(move.frames, need, need > aircraft.tilt_deg):
        out.append(
            (frame, f"would need a bank of {value:.0f}°; {aircraft.tilt_deg:g}° is the most")
        )
    for frame, value in _worst(move.frames, level, level > aircraft.terminal):
        out.append(
            (frame, f"asks for {value:.1f} m/s; {aircraft.terminal:.1f} m/s is its top speed")
        )
    push = np.linalg.norm(acceleration + [0, G, 0], axis=1)
    most = aircraft.thrust_n / aircraft.mass_kg
    for frame, value in _worst(move.frames, push, push > most):
        out.append((frame, f"asks for {value / G:.1f} g of thrust; {most / G:.1f} g is the most"))
    nose = np.degrees(np.arcsin(np.clip(-move.rotations[:, 1, 2], -1, 1)))
    climbs = (velocity[:, 1] > CLIMB) & (nose > NOSE_UP) & (level > STILL)
    if aircraft.looks == "keys":
        for frame, value in _worst(move.frames, nose, climbs):
            out.append((frame, f"climbs with the nose up by {value:.0f}°"))
    return sorted(out)


def _worst(frames: Array, values: Array, where: Array) -> list[tuple[int, float]]:
    """Of each run of frames that are marked the worst: (frame, value)."""
    out, index = [], 0
    while index < len(where):
        if not where[index]:
            index += 1
            continue
        end = index
        while end < len(where) and where[end]:
            end += 1
        top = index + int(np.argmax(values[index:end]))
        out.append((int(frames[top]), float(values[top])))
        index = end
    return out

"""What is said about the fit of a path, in sentences."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array

if TYPE_CHECKING:
    from aperture.path.report import Told


# A frame that fewer tracks hold is named.
FEW_TRACKS = 12
# Shares of tracks that weren't used, above which it is said.
MANY_LEFT_OUT = 0.05
# A factor of the tracks' σ that is worth saying.
WORSE_THAN_SAID = 1.2


def remarks(told: Told, jerks: Array, clustered: bool) -> list[dict[str, Any]]:
    """Return what is said of a fit: {"kind", "says"} each, and the facts or frames that it is
    about.

    Parameters
    ----------
    told : Told
    jerks : ndarray, shape (F,)
        Of each frame of the evidence, how far its place is from between its neighbours’, over its
        ±; NaN at the ends.
    clustered : bool
        Whether the ± are those that the tracks' residuals give.
    """
    network, out = told.network, []
    if told.kind == "nodal":
        out.append(
            _remark(
                "only turns",
                "The camera only turns: its path explains no more than its turns do. Directions and"
                " lens are solved; distances can't be known from these frames.",
            )
        )
    if told.reversible:
        out.append(
            _remark(
                "reversible",
                "With near and far reversed, and all ways the other way, a path explains the tracks"
                " about as well. The ± of the lens covers both; places are those of the better one."
                " The focal length, or a distance between a near and a far track, would tell.",
            )
        )
    if told.untold_shutter and network.readout is not None:
        rate = told.evidence.rate
        time = network.readout.frames / (float(rate) / 1000 if rate else 1.0)
        out.append(
            _remark(
                "rolling shutter",
                f"The rows seem to be read one after the other, the last {abs(time):.3g}"
                f" {'ms' if rate else 'frames'} {'after' if time > 0 else 'before'} the first: then"
                " the camera only turns. Were they read all at once, it would need a path, which"
                " nothing else speaks for. Type the readout time if it is known.",
            )
        )
    if network.factor > WORSE_THAN_SAID:
        out.append(
            _remark(
                "worse than said",
                f"The tracks are {network.factor:.1f} times less exact than their own ± say, as in "
                "compressed film. All ± here are widened accordingly.",
            )
        )
    if clustered:
        out.append(
            _remark(
                "correlated",
                "Errors hang together along the tracks: the ± are those that the tracks' own "
                "residuals give, which are larger than those of independent errors.",
            )
        )
    seen = told.sightings.seen.sum()
    lost = 1 - network.use.sum() / max(seen, 1)
    if lost > MANY_LEFT_OUT:
        out.append(
            _remark(
                "left out",
                f"{lost:.0%} of what was followed isn't used: it doesn't fit points that stand"
                " still, or its rays hardly differ.",
            )
        )
    unused = [
        fact["id"]
        for fact in told.evidence.facts
        if fact["id"] not in {equation.id for equation in network.facts.equations}
    ]
    if unused:
        names = ", ".join(f"“{told.evidence.names.get(id_, id_)}”" for id_ in unused)
        out.append(
            _remark(
                "not used",
                f"Not used: {names}. It is about points or frames that the path doesn't hold:"
                " follow the points over several frames.",
                of=unused,
            )
        )
    counts = network.use.sum(axis=1)[network.frames]
    few = told.evidence.frames[network.frames][counts < FEW_TRACKS].tolist()
    if few:
        out.append(
            _remark("few tracks", f"{_frames(few)} by fewer than {FEW_TRACKS} tracks.", frames=few)
        )
    sudden = told.evidence.frames[np.nan_to_num(jerks) > 12.0].tolist()
    if sudden:
        out.append(
            _remark(
                "jerk",
                f"The path jumps at {_names(sudden)}: look whether the picture does too.",
                frames=sudden,
            )
        )
    return out


def _frames(frames: list[int]) -> str:
    held = "Frame {} is held" if len(frames) == 1 else "Frames {} are held"
    return held.format(_names(frames))


def _names(frames: list[int]) -> str:
    """Some frame numbers in words: the first few, and how many more."""
    shown = ", ".join(str(frame) for frame in frames[:4])
    return shown if len(frames) <= 4 else f"{shown} and {len(frames) - 4} more"


def _remark(kind: str, says: str, **more: Any) -> dict[str, Any]:
    return {"kind": kind, "says": says, **more}

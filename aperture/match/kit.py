"""Round values: the lens that falls out of a match is nearly one of the case. What would it cost to
take that one?"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from aperture.lens.projections import radius_at
from aperture.match.report import write
from aperture.match.solve import find

if TYPE_CHECKING:
    from aperture.lens.lens import Lens
    from aperture.match.system import System

# How well an engraved focal length, or a rounded angle, is kept: common practice, no source.
ENGRAVED_SHARE = 0.01


@dataclass(frozen=True)
class Choice:
    """One value near the solved one. `costs_px`: growth of the residuals' rms; `sigmas`: how far it
    lies from what the marks say.

    `fact`: what taking it adds to the document; `focal`: or the lens's given focal length.
    """

    says: str
    focal_mm: float
    costs_px: float
    sigmas: float
    focal: dict[str, Any] | None = None
    fact: dict[str, Any] | None = None


def choices(
    document: dict[str, Any], fit: dict[str, Any], lenses: Sequence[Any] = ()
) -> list[Choice]:
    """The nearest lenses of the kit, the nearest whole millimetre and whole degree, the nearest
    first.

    `lenses`: (name, shortest, longest focal length in mm). `fit`: the document's, with the gate
    known and the focal length solved from the marks, whatever focal length was given before. Empty
    where it wasn't.
    """
    free = document | {
        "lens": document.get("lens", {}) | {"focal_mm": None},
        "facts": [
            fact
            for fact in document.get("facts", ())
            if fact["kind"] not in ("angle_of_view", "focal_range")
        ],
    }
    system, optimum = find(free, fit)
    if not fit.get("ok") or system.evidence.gate_mm is None:
        return []
    solved, _ = write(system, optimum, explain=False)
    value = solved["camera"]["focal_mm"]
    across = solved["camera"]["field_of_view_deg"]["horizontal"]
    out = []
    for wish in _wishes(
        value, across, lenses, _focal_for(system, optimum.state.lens, round(across))
    ):
        held = free["lens"] | {"focal_mm": {"value": wish.focal_mm, "plus_minus": 0}}
        fixed, end = find(free | {"lens": held}, solved)
        report, _ = write(fixed, end, explain=False)
        costs = report["residuals"]["rms_px"] - solved["residuals"]["rms_px"]
        sigmas = math.sqrt(max(0.0, end.chi2 - optimum.chi2))
        out.append(replace(wish, costs_px=costs, sigmas=sigmas))
    return sorted(out, key=lambda choice: abs(math.log(choice.focal_mm / value)))


def _wishes(
    value: float, across: float, lenses: Sequence[Any], focal_of_degree: float | None
) -> Iterator[Choice]:
    """What could be meant by a solved focal length (mm) and horizontal angle (degrees); what each
    costs isn't known yet."""
    primes = sorted(
        {(low, name) for name, low, high in lenses if low == high},
        key=lambda one: abs(math.log(one[0] / value)),
    )[:3]
    for mm, name in primes:
        given = {"value": mm, "plus_minus": round(mm * ENGRAVED_SHARE, 4)}
        yield Choice(name, mm, 0.0, 0.0, given, None)
    whole = max(1, round(value))
    if whole not in [mm for mm, _ in primes]:
        given = {"value": whole, "plus_minus": round(whole * ENGRAVED_SHARE, 4)}
        says = f"{whole} mm, the nearest whole one"
        yield Choice(says, float(whole), 0.0, 0.0, given, None)
    if focal_of_degree:
        degree = round(across)
        fact = {
            "kind": "angle_of_view",
            "basis": "horizontal",
            "degrees": degree,
            "plus_minus": 0.3,
            "name": f"{degree}° across",
        }
        says = f"{degree}° across, the nearest whole degree"
        yield Choice(says, focal_of_degree, 0.0, 0.0, None, fact)


def zooms_that_reach(focal_mm: float, lenses: list[Any]) -> list[str]:
    """The names of the zooms whose range holds a focal length."""
    return [name for name, low, high in lenses if low < high and low <= focal_mm <= high]


def _focal_for(system: System, lens: Lens, degrees: int) -> float | None:
    """The focal length, mm, at which the picture is so many degrees wide, the lens's distortion
    left out."""
    width, _ = system.grid.shown_gate_mm(system.evidence.squeeze)
    radius = (
        radius_at(lens.projection, math.radians(degrees) / 2) if 0 < degrees < 360 else math.nan
    )
    return width / 2 / radius if radius > 0 else None

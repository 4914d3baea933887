"""Do the focal lengths that a file states fit the gate?"""

from __future__ import annotations

import math
from typing import Any

from aperture.gates.chain import Chain
from aperture.gates.checks.edits import with_steps
from aperture.gates.checks.findings import Finding, Remedy
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM, FULL_FRAME_MM
from aperture.units import format_number

FULL = {"width": FULL_FRAME_MM[0], "diagonal": FULL_FRAME_DIAGONAL_MM}


def check_file_focal(
    chain: Chain, gate: dict[str, Any], focal_mm: float | None, equivalent_mm: float | None
) -> Finding | None:
    """Does the sensor that the file's focal length and its full-frame equivalent imply look like a
    gate on the way to the plate?

    The camera wrote them for what it recorded, so a crop made later is no disagreement. Files give
    the equivalent in whole mm, so that half a mm either way is none either. None where the file
    says too little.
    """
    if not focal_mm or not equivalent_mm:
        return None
    implied = {basis: FULL[basis] * focal_mm / equivalent_mm for basis in FULL}
    share = 0.5 / equivalent_mm + 0.5 * 10 ** -_decimals(focal_mm) / focal_mm + 0.005
    for index in range(chain.plate, -1, -1):
        actual = _sides(chain, index)
        off = {basis: abs(implied[basis] - actual[basis]) for basis in FULL}
        basis = min(off, key=off.__getitem__)
        if off[basis] <= implied[basis] * share:
            whose = f"grid {index + 1}’s, before the plate was cut,"
            if index == chain.plate:
                whose = "the gate’s"
            return Finding(
                "file-focal",
                "The file’s focal lengths fit the gate",
                f"{focal_mm:g} mm and the equivalent of {equivalent_mm:g} mm, by {basis}, "
                f"imply {implied[basis]:.2f} mm; {whose} {basis} is {actual[basis]:.2f} mm.",
                "good",
            )
    actual = _sides(chain, chain.plate)
    says = (
        f"The file’s {focal_mm:g} mm and full-frame equivalent of {equivalent_mm:g} mm imply a"
        f" sensor {implied['width']:.2f} mm wide, or {implied['diagonal']:.2f} mm on the diagonal;"
        f" the gate is {actual['width']:.2f} mm wide and {actual['diagonal']:.2f} mm on the"
        f" diagonal ({_percent(actual['diagonal'] / implied['diagonal'])}). A focal length from the"
        " file would then be wrong by as much."
    )
    remedies = _remedies(chain, gate, implied, implied["diagonal"] / actual["diagonal"])
    title = "The file’s focal lengths imply another sensor"
    return Finding("file-focal", title, says, "doubt", tuple(remedies))


def _sides(chain: Chain, index: int) -> dict[str, float]:
    width, height = chain.shown_gate(index)
    return {"width": width, "diagonal": math.hypot(width, height)}


def _remedies(
    chain: Chain, gate: dict[str, Any], implied: dict[str, float], ratio: float
) -> list[Remedy]:
    """The file's sensor, by its width or its diagonal; or a smaller window of this one, by
    `ratio`."""
    width, height = chain.shown_gate(chain.plate)
    aspect = width / height
    remedies = []
    for basis, wide in (
        ("width", implied["width"]),
        ("diagonal", implied["diagonal"] * aspect / math.hypot(aspect, 1)),
    ):
        document = {
            "width_mm": round(wide / chain.squeeze, 4),
            "height_mm": round(wide / aspect, 4),
            "squeeze": chain.squeeze,
            "origin": "file",
            "name": "",
            "steps": [],
            "plate_at": 0,
        }
        label = f"Take the file’s sensor, by {basis}: {wide:.2f} × {wide / aspect:.2f} mm"
        remedies.append(Remedy(f"file-{basis}", label, document))
    if ratio < 1:
        across, down = chain.predicted.gate_mm
        window = {
            "do": "window",
            "width_mm": round(across * ratio, 4),
            "height_mm": round(down * ratio, 4),
        }
        share = format_number(ratio * 100, 1)
        label = f"The camera used a smaller window of the sensor: {share} % of it"
        remedies.append(Remedy("file-crop", label, with_steps(gate, window)))
    return remedies


def _decimals(value: float) -> int:
    return len(f"{value:g}".partition(".")[2])


def _percent(ratio: float) -> str:
    return f"{abs(ratio - 1) * 100:.0f} % {'more' if ratio > 1 else 'less'}"

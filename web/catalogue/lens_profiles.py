"""Lenses of the open lens database, written as the catalogue's documents."""

import math

from aperture.errors import Problem
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM
from aperture.lens.database import lens_by_key, profile_of
from aperture.lens.profiles import Converted, convert
from aperture.lens.projections import MATCHED

# As many pixels across as the error is told for where no plate says how many there are.
USUAL_WIDTH_PX = 6000


def converted(key: str, focal_mm: float, gate_mm: tuple[float, float]) -> Converted | None:
    """A lens's distortion at a focal length, over a gate, in this program's coefficients; None
    where it has none. Raises Problem."""
    lens = lens_by_key(key)
    if lens.projection not in MATCHED:
        raise Problem(
            f"“{lens.model}” draws by a projection that a match can't use; it can use"
            f" {', '.join(MATCHED)}."
        )
    profile = profile_of(key, focal_mm) if lens.projection == "rectilinear" else None
    return convert(profile, gate_mm) if profile else None


def catalogue_lens(key: str) -> dict:
    """A catalogue document of a lens: its distortion at both ends and in the middle of its range,
    over the sensor it was calibrated on."""
    lens = lens_by_key(key)
    diagonal = FULL_FRAME_DIAGONAL_MM / lens.crop_factor
    gate = diagonal * 1.5 / math.hypot(1.5, 1), diagonal / math.hypot(1.5, 1)
    low, high = lens.focal_mm
    rows, errors = [], []
    for focal in dict.fromkeys((low, round(math.sqrt(low * high), 2), high)):
        try:
            found = converted(key, focal, gate)
        except Problem as problem:
            errors.append(problem.sentence)
            continue
        if found:
            rows.append(
                {"focal_mm": focal}
                | {
                    name: round(value, 8)
                    for name, value in zip(("k1", "k2", "k3"), found.coefficients)
                }
            )
            errors.append(
                f"{focal:g} mm: largest error"
                f" {found.largest_error_mm / gate[0] * USUAL_WIDTH_PX:.2f} px of {USUAL_WIDTH_PX}"
                " across."
            )
    name = lens.model.removeprefix(lens.maker).strip()
    return {
        "name": name[:120],
        "maker": lens.maker[:120],
        "focal_mm": [low, high],
        "squeeze": 1.0,
        "projection": lens.projection,
        "distortion": rows,
        "notes": ("From the open lens database. " + " ".join(errors))[:2000],
    }

"""Do the gate and the picture agree, and if not, what would explain it."""

from dataclasses import dataclass

from aperture.gates.grid import Grid


@dataclass(frozen=True)
class Remedy:
    """One plausible explanation of a disagreement: the gate (mm) and squeeze to take, and the sentence that says why."""

    key: str
    label: str
    gate_mm: tuple[float, float]
    squeeze: float = 1.0


@dataclass(frozen=True)
class AspectCheck:
    """`error_px`: by how many pixels, over the picture's width, the gate's aspect and the picture's differ (+: gate too wide)."""

    picture_aspect: float
    gate_aspect: float
    error_px: float
    remedies: tuple[Remedy, ...]

    @property
    def agrees(self) -> bool:
        """Half a pixel over the width is what rounding a size to whole pixels can do."""
        return abs(self.error_px) <= 0.5


def check_aspect(width_px: int, height_px: int, gate_mm: tuple[float, float], squeeze: float = 1.0,
                 pixel_aspect: float = 1.0) -> AspectCheck:
    """Compare gate_w · squeeze / gate_h with W · pixel_aspect / H, and offer the crops and squeezes that would explain it.

    Raises Problem where a size isn't above zero.
    """
    Grid.from_gate(width_px, height_px, *gate_mm)  # for its checks
    picture = width_px * pixel_aspect / height_px
    width_mm, height_mm = gate_mm
    gate = width_mm * squeeze / height_mm
    error = width_px * (gate / picture - 1)
    remedies = []
    if abs(error) > 0.5:
        if gate > picture:
            cropped = height_mm * picture / squeeze
            remedies.append(Remedy("crop-sides", f"The picture leaves out the sides: gate {cropped:.2f} × {height_mm:.2f} mm",
                                   (cropped, height_mm), squeeze))
        else:
            cropped = width_mm * squeeze / picture
            remedies.append(Remedy("crop-top-bottom", f"The picture leaves out top and bottom: gate {width_mm:.2f} × {cropped:.2f} mm",
                                   (width_mm, cropped), squeeze))
        if (gate > 1) != (picture > 1):
            remedies.append(Remedy("turned", f"The camera stood on its side: gate {height_mm:.2f} × {width_mm:.2f} mm",
                                   (height_mm, width_mm), squeeze))
        for other in (1.0, 1.25, 1.33, 1.5, 1.65, 1.8, 2.0):
            if other != squeeze and abs(width_mm * other / height_mm / picture - 1) < 0.015:
                label = "There is no squeeze" if other == 1 else f"The lens squeezes by {other:g}"
                remedies.append(Remedy(f"squeeze-{other:g}", label, gate_mm, other))
    return AspectCheck(picture, gate, error, tuple(remedies))

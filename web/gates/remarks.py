"""What the Gate page has to say about a shot's sensor and chain, with remedies."""

from aperture.geometry.angles import FULL_FRAME_MM
from web.gates import page
from web.gates.rates import rate_remarks
from web.plates.models import metadata_of
from web.ui.rows import Remark


def gate_remarks(shot, plate) -> list[Remark]:
    """What needs the artist, in order of the page."""
    remarks = [page.remark_of(shot, finding) for finding in page.findings(shot, plate)]
    if plate and not shot.state["gate"]:
        remarks += _without_gate(shot, plate)
    if not plate:
        remarks.append(
            Remark(
                "No plate yet",
                "Bring in a picture first; then the gate can be checked against it.",
                "note",
            )
        )
    return remarks + rate_remarks(shot)


def _without_gate(shot, plate):
    data, base = metadata_of(shot.state, plate), shot.head.number
    if data.get("focal_mm") and data.get("equivalent_mm"):
        width = FULL_FRAME_MM[0] * data["focal_mm"] / data["equivalent_mm"]
        height = width * plate.height / plate.width
        take = (
            f"Take {width:.2f} × {height:.2f} mm",
            {
                "action": shot.url("gate"),
                "fields": {
                    "width": f"{width:.4f}",
                    "height": f"{height:.4f}",
                    "squeeze": "1",
                    "origin": "file",
                    "base": base,
                },
            },
        )
        return [
            Remark(
                "The file hints at the sensor",
                f"Its focal length of {data['focal_mm']:g} mm and full-frame equivalent of "
                f"{data['equivalent_mm']:g} mm, if meant by width, make a gate {width:.2f} × {height:.2f} mm. Files round the equivalent to whole "
                "millimetres, so this is near, not exact.",
                "note",
                (take,),
            )
        ]
    return [
        Remark(
            "No gate yet",
            "Choose the mode the camera recorded, a standard format, or type its width and height. Without it, the match solves the lens "
            "in pixels only.",
            "note",
        )
    ]

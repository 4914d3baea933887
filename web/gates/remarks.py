"""What the Gate page has to say about a shot's sensor and chain, with remedies."""

from aperture.geometry.angles import FULL_FRAME_MM
from aperture.lens.projections import Pieces, named
from web.gates import page
from web.gates.gate import all_around
from web.gates.rates import rate_remarks
from web.plates.models import metadata_of
from web.ui.rows import Remark


def gate_remarks(shot, plate) -> list[Remark]:
    """What needs the artist, in order of the page."""
    remarks = [page.remark_of(shot, finding) for finding in page.findings(shot, plate)]
    if plate:
        remarks += _around(shot, plate)
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


TWICE, NEAR_TWICE = 2.0, 0.01  # a full panorama is twice as wide as high


def _around(shot, plate) -> list[Remark]:
    """That a plate may be a panorama of all around; and what its gate is, where it is taken as
    one."""
    layout = named(shot.state["lens"].get("projection", "rectilinear"))
    if isinstance(layout, Pieces):
        says = (
            f"The plate goes all around, laid out as a {layout.name}. Its gate is no size of a"
            " sensor: half a face, or a radian of a circle, is one millimetre of the figures"
            " below."
        )
        return [Remark("A panorama in pieces", says, "note")]
    if said := all_around(shot.state):
        says = f"The plate goes all around: its gate is an angle, {said}, not millimetres."
        return [Remark("A panorama", says, "note")]
    if shot.state["gate"] or abs(plate.width / plate.height - TWICE) > NEAR_TWICE:
        return []
    says = (
        "The picture is twice as wide as high, as equirectangular panoramas of all around are. "
        "Taken as one, edges, spots and lengths match it as any other plate."
    )
    fields = {"base": shot.head.number}
    take = ("Take it as 360° × 180°", {"action": shot.url("gate-around"), "fields": fields})
    return [Remark("All around?", says, "note", (take,))]


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
                f"Its focal length of {data['focal_mm']:g} mm and full-frame equivalent of"
                f" {data['equivalent_mm']:g} mm, if meant by width, make a gate {width:.2f} ×"
                f" {height:.2f} mm. Files round the equivalent to whole millimetres, so this is"
                " near, not exact.",
                "note",
                (take,),
            )
        ]
    return [
        Remark(
            "No gate yet",
            "Choose the mode the camera recorded, a standard format, or type its width and height."
            " Without it, the match solves the lens in pixels only.",
            "note",
        )
    ]

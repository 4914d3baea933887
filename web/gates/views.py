"""The Gate step: what area of what sensor made these pixels."""

import math

from django.shortcuts import redirect
from django.views.decorators.http import require_http_methods

from aperture.gates.angles import FULL_FRAME_MM, equivalent_focal, view_of
from aperture.gates.formats import FORMATS
from aperture.units import format_value
from web.gates import actions
from web.gates.forms import GateForm
from web.gates.gate import aspect_of, grid_of
from web.plates.models import plate_of
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row


@require_http_methods(["GET", "POST"])
def gate(request, show, shot):
    """Gate, angles, and whether gate and picture can both be true."""
    shot = find(show, shot)
    now = shot.state["gate"]
    initial = {"format": next((f.key for f in FORMATS if now and f.name == now["name"]), ""), "width": f"{now['width_mm']:g} mm" if now else "",
               "height": f"{now['height_mm']:g} mm" if now else "", "squeeze": f"{now['squeeze']:g}" if now else "1", "base": shot.head.number}
    form = GateForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        actions.set_gate(shot, data["width_mm"], data["height_mm"], data["squeeze"], data["origin"], data["name"], data["base"])
        return redirect(shot.url("gate"))
    plate = plate_of(shot)
    context = {"form": form, "plate": plate, "rows": _rows(shot, plate), "angle_rows": _angle_rows(shot, plate),
               "remarks": _remarks(shot, plate), "drawing": _drawing(shot), "formats": FORMATS}
    return step_page(request, shot, "gate", "gates/gate.html", context, status=422 if form.errors else 200)


def _rows(shot, plate) -> list[Row]:
    now, grid = shot.state["gate"], grid_of(shot.state)
    if not now:
        return [Row("Gate", "–")]
    origin = now["origin"]
    rows = [Row("Format", now["name"] or "typed size", origin=origin), Row("Width", format_value(now["width_mm"], unit="mm", places=3)[0], origin=origin),
            Row("Height", format_value(now["height_mm"], unit="mm", places=3)[0], origin=origin),
            Row("Diagonal", format_value(math.hypot(now["width_mm"], now["height_mm"]), unit="mm", places=3)[0], origin=origin),
            Row("Squeeze", f"{now['squeeze']:g}", origin=origin)]
    if grid:
        check = aspect_of(shot.state)
        across, down = grid.mm_per_px
        rows += [Row("Gate aspect, unsqueezed", f"{check.gate_aspect:.4f}", origin=origin), Row("Picture aspect", f"{check.picture_aspect:.4f}", origin="file"),
                 Row("Pixel pitch", f"{across * 1000:.3f} × {down * 1000:.3f} µm", origin=origin)]
    return rows


def _angle_rows(shot, plate) -> list[Row]:
    now = shot.state["gate"]
    if not now:
        return []
    given = shot.state["lens"].get("focal_mm")
    focal, origin = (given["value"], "typed") if given else ((plate.metadata.get("focal_mm"), "file") if plate else (None, ""))
    if not focal:
        return [Row("Focal length", "–", title="Neither the file nor you say it; the match will solve it.")]
    gate_mm = (now["width_mm"], now["height_mm"])
    view = view_of(gate_mm, focal, now["squeeze"])
    same = equivalent_focal(gate_mm, focal, now["squeeze"])
    return [Row("Focal length", format_value(focal, unit="mm", places=2)[0], origin=origin)] + [
        Row(name, format_value(math.degrees(angle), unit="°", places=2)[0], origin=origin)
        for name, angle in (("Across", view.horizontal), ("Down", view.vertical), ("Diagonal", view.diagonal))] + [
        Row("Equivalent by 36 mm width", format_value(same["width"], unit="mm", places=2)[0], origin=origin),
        Row("Equivalent by 43.27 mm diagonal", format_value(same["diagonal"], unit="mm", places=2)[0], origin=origin)]


def _post(url, label, **fields):
    return label, {"action": url, "fields": fields}


def _remarks(shot, plate) -> list[Remark]:
    remarks, now, url, base = [], shot.state["gate"], shot.url("gate"), shot.head.number
    check = aspect_of(shot.state)
    if check and not check.agrees:
        wide = "wider" if check.error_px > 0 else "narrower"
        says = (f"The gate, unsqueezed, is {check.gate_aspect:.3f} : 1 and the picture {check.picture_aspect:.3f} : 1. The gate is {wide} by "
                f"{abs(check.error_px):.0f} px over the picture's width of {plate.width}. One of these would explain it:")
        remarks.append(Remark("Gate and picture can’t both be true", says, "doubt", tuple(
            _post(url, r.label, width=repr(r.gate_mm[0]), height=repr(r.gate_mm[1]), squeeze=repr(r.squeeze), origin="assumed", base=base)
            for r in check.remedies)))
    elif check:
        remarks.append(Remark("Gate and picture agree", f"Within half a pixel over the width: off by {abs(check.error_px):.2f} px.", "good"))
    if plate and not now:
        data = plate.metadata
        if data.get("focal_mm") and data.get("equivalent_mm"):
            width = FULL_FRAME_MM[0] * data["focal_mm"] / data["equivalent_mm"]
            height = width * plate.height / plate.width
            remarks.append(Remark("The file hints at the sensor", f"Its focal length of {data['focal_mm']:g} mm and full-frame equivalent of "
                                  f"{data['equivalent_mm']:g} mm, if meant by width, make a gate {width:.2f} × {height:.2f} mm. "
                                  "Files round the equivalent to whole millimetres, so this is near, not exact.", "note",
                                  (_post(url, f"Take {width:.2f} × {height:.2f} mm", width=f"{width:.4f}", height=f"{height:.4f}", squeeze="1",
                                         origin="file", base=base),)))
        else:
            remarks.append(Remark("No gate yet", "Choose the format the camera recorded, or type its width and height. Without it, the match "
                                  "solves the lens in pixels only.", "note"))
    if not plate:
        remarks.append(Remark("No plate yet", "Bring in a picture first; then the gate can be checked against it.", "note"))
    return remarks


def _drawing(shot) -> dict | None:
    """Gate and picture as two rectangles to scale, in an SVG of 520 units across."""
    now, plate = shot.state["gate"], shot.state["plate"]
    if not now:
        return None
    width, height = now["width_mm"] * now["squeeze"], now["height_mm"]
    boxes = [("gate", width, height)]
    if plate:
        aspect = plate["width"] / plate["height"]
        boxes.append(("picture", *((width, width / aspect) if aspect > width / height else (height * aspect, height))))
    scale = min(440 / max(w for _, w, _ in boxes), 300 / max(h for _, _, h in boxes))
    return {"rects": [{"kind": kind, "x": 260 - w * scale / 2, "y": 190 - h * scale / 2, "w": w * scale, "h": h * scale} for kind, w, h in boxes],
            "width": f"{now['width_mm']:.2f} mm" + (f" × {now['squeeze']:g}" if now["squeeze"] != 1 else ""), "height": f"{height:.2f} mm",
            "top": 180 - height * scale / 2, "left": 250 - width * scale / 2}

"""The Match step's report: figures, remarks, evidence, ready for the template."""

import math

from aperture.match.document import AXES
from aperture.units import format_value
from web.gates.gate import for_match, plate_origin
from web.ui.rows import Remark, Row

QUANTITIES = {"focal": "The focal length", "direction": "The direction", "position": "The position", "scale": "The size of things",
              "principal_point": "The lens's centre", "distortion": "The distortion"}


def figures(shot, fit: dict | None) -> list[tuple[str, list[Row]]]:
    """Headed groups of rows."""
    if not fit or not fit["ok"]:
        return []
    camera, pm, known, show = fit["camera"], fit["plus_minus"], fit["determined"], shot.show
    gate = shot.state["gate"]

    def tag(quantity):
        return {"solved": "solved", "given": "typed" if quantity in ("focal",) else "assumed", "no": ""}[known[quantity]]

    focal = format_value(camera["focal_mm"], pm["focal_mm"], "mm") if camera["focal_mm"] is not None else \
        format_value(camera["focal_px"][0], pm["focal_px"][0], "px", fallback=1)
    view = camera["field_of_view_deg"]
    lens = [Row("Focal length", *focal, tag("focal"))]
    for name, key in (("Across", "horizontal"), ("Down", "vertical"), ("Diagonal", "diagonal")):
        lens.append(Row(f"Angle {name.lower()}", *format_value(view[key], pm[f"{key}_deg"], "°"), tag("focal")))
    known_gate = for_match(shot.state)
    size = "{width_mm:.2f} × {height_mm:.2f}".format(**known_gate["gate"]) if gate else "not known"
    lens.append(Row("Gate", size, "", plate_origin(shot.state)))
    wanted = shot.state["lens"].get("principal_point", "centre")
    at = "{:.1f}, {:.1f} px".format(*camera["principal_point_px"])
    if wanted == "centre" and "principal_point" in known_gate.get("lens", {}):
        lens.append(Row("Centre of lens", at, "", plate_origin(shot.state), "where the middle of the sensor lies on this plate, by the gate chain"))
    else:
        lens.append(Row("Centre of lens", "middle", "", "assumed") if wanted == "centre" else
                    Row("Centre of lens", at, "", "solved" if wanted == "free" else "typed"))
    position, spread = camera["position_m"], pm["position_m"]
    scaled = known["scale"] != "no"
    where = []

    def length(name, value, plus_minus, title=""):
        if value is None:
            return Row(name, "–", title=title)
        if not scaled:
            return Row(name, *format_value(value, plus_minus, "× far", fallback=3), "solved", "in units of the distance to the first placed spot")
        return Row(name, *show.length(value, plus_minus), "solved", title)
    where.append(length("Height above floor", position[1], spread[1]))
    if None not in position:
        distance = math.hypot(*position)
        share = math.sqrt(sum((p * s) ** 2 for p, s in zip(position, spread))) / distance if distance else 0.0
        where.append(length("From the origin", distance, share))
    order = [("across", 0, 1), ("up", 1, 1), ("along", 2, 1)] if show.up_axis == "Y" else [("X", 0, 1), ("Y", 2, -1), ("Z", 1, 1)]
    for name, axis, sign in order:
        where.append(length(f"Position {name}", None if position[axis] is None else sign * position[axis], spread[axis]))
    for name, key in (("Pan", "pan"), ("Tilt", "tilt"), ("Roll", "roll")):
        where.append(Row(name, *format_value(camera[f"{key}_deg"], pm[f"{key}_deg"], "°"), "solved"))
    return [("Lens", lens), ("Where it stood", where)]


def remarks(shot, fit: dict | None) -> list[Remark]:
    """What needs the artist, the worst first."""
    if fit is None:
        return [Remark("No plate yet", "Bring in a picture on the Plate step.", "note")]
    if not fit["ok"]:
        empty = not shot.state["marks"]
        return [Remark("Begin with edges" if empty else "No camera yet", fit["problem"], "note" if empty else "bad")]
    out = [Remark("Evidence disagrees", conflict["says"], "doubt", _conflict_remedies(shot, conflict)) for conflict in fit["conflicts"]]
    axes = sorted({mark["axis"] for mark in shot.state["marks"] if mark["kind"] == "edge" and not mark.get("off")}, key=AXES.index)
    for item in fit["missing"]:
        says = f"{QUANTITIES[item['quantity']]} can’t be told from this evidence. What would settle it: {item['would_settle']}."
        if item.get("says"):
            says += " " + item["says"]
        if item["quantity"] == "scale" and any(other["quantity"] == "position" for other in fit["missing"]):
            continue
        title = "No size yet" if fit["determined"]["scale"] == "no" and item["quantity"] == "position" else "Still open"
        out.append(Remark(title, says, "note"))
    if len(axes) == 2:
        third = next(axis for axis in AXES if axis not in axes)
        out.append(Remark("The third axis is deduced", f"Edges {axes[0]} and {axes[1]} are drawn; {third} follows, at right angles to both.", "note"))
    return out


def _conflict_remedies(shot, conflict):
    base, out = shot.head.number, []
    named = {item["id"]: item.get("name") or item["id"] for item in shot.state["marks"] + shot.state["facts"]}
    for id_ in [id_ for id_ in conflict["of"] if id_ in named][:2]:
        out.append((f"Leave out {named[id_]}", {"action": shot.url("match-switch", id_), "fields": {"off": "1", "base": base}}))
        out.append(("Widen its ± ×3", {"action": shot.url("match-widen", id_), "fields": {"base": base}}))
    return tuple(out)


def evidence(shot, fit: dict | None) -> list[dict]:
    """Marks and facts, with residuals where there is a fit; the largest first among what is on."""
    residuals = fit["residuals"] if fit and fit["ok"] else {"marks": {}, "facts": {}, "mark_sigmas": {}}
    rows = []
    names = {mark["id"]: mark.get("name") or mark["id"] for mark in shot.state["marks"]}
    for mark in shot.state["marks"]:
        off = residuals["marks"].get(mark["id"])
        kind = mark.get("axis") or mark["kind"]
        rows.append({"id": mark["id"], "name": mark.get("name") or mark["id"], "kind": kind, "letter": {"across": "X", "up": "Y", "along": "Z"}.get(kind, "+"),
                     "off": mark.get("off"), "residual": "" if off is None else f"{off:.1f}", "unit": "px",
                     "bar": 0 if off is None else min(100, 100 * off / 4), "bad": residuals["mark_sigmas"].get(mark["id"], 0) > 3, "fact": False})
    for fact in shot.state["facts"]:
        own = residuals["facts"].get(fact["id"])
        sigmas = None if own is None else abs(own["sigmas"])
        rows.append({"id": fact["id"], "name": describe(fact, names, shot.show), "kind": "fact", "letter": "↕", "off": fact.get("off"),
                     "residual": "" if sigmas is None else f"{sigmas:.1f}", "unit": "σ", "bar": 0 if sigmas is None else min(100, 100 * sigmas / 4),
                     "bad": sigmas is not None and sigmas > 3, "fact": True})
    lens = shot.state["lens"].get("focal_mm")
    if lens:
        rows.append({"id": "lens", "name": f"Focal length {lens['value']:g} mm ± {lens['plus_minus']:g}", "kind": "fact", "letter": "f", "off": False,
                     "residual": "", "unit": "", "bar": 0, "bad": False, "fact": True})
    return rows


def describe(fact: dict, names: dict, show) -> str:
    """A fact in a line."""
    if fact["kind"] in ("length", "camera_height"):
        value, plus_minus = show.length(fact["metres"], fact["plus_minus"])
        ends = names.get(fact.get("from"), "?") + " – " + names.get(fact.get("to"), "?")
        return f"Camera height {value} {plus_minus}" if fact["kind"] == "camera_height" else f"{fact.get('name') or ends}, {value} {plus_minus}"
    return fact.get("name") or "Camera position"

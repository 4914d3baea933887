"""The Match step's report: figures, remarks, evidence, ready for the template."""

import math

from aperture.match.facts import AXES
from aperture.match.solve import camera_of
from aperture.scene import overlay
from aperture.units import format_value
from web.gates.gate import for_match, plate_origin
from web.match.fits import document_of
from web.ui.rows import Row

# What each coordinate is in the show's files; on the pages it has one name and one sign.
IN_FILES = {
    "Y": ("X in files", "Y in files", "Z in files"),
    "Z": ("X in files", "Z in files", "−Y in files"),
}


def figures(shot, fit: dict | None) -> list[tuple[str, list[Row]]]:
    """Headed groups of rows."""
    if not fit or not fit["ok"]:
        return []
    camera, pm, known, show = fit["camera"], fit["plus_minus"], fit["determined"], shot.show
    gate = shot.state["gate"]

    def tag(quantity):
        return {
            "solved": "solved",
            "given": "typed" if quantity in ("focal",) else "assumed",
            "no": "",
        }[known[quantity]]

    focal = (
        format_value(camera["focal_mm"], pm["focal_mm"], "mm")
        if camera["focal_mm"] is not None
        else format_value(camera["focal_px"][0], pm["focal_px"][0], "px", fallback=1)
    )
    view = camera["field_of_view_deg"]
    lens = [Row("Focal length", *focal, tag("focal"))]
    angles = [
        Row(key.capitalize(), *format_value(view[key], pm[f"{key}_deg"], "°"), tag("focal"))
        for key in ("horizontal", "vertical", "diagonal")
    ]
    known_gate = for_match(shot.state)
    size = "{width_mm:.2f} × {height_mm:.2f}".format(**known_gate["gate"]) if gate else "not known"
    lens.append(Row("Gate", size, "", plate_origin(shot.state)))
    wanted = shot.state["lens"].get("principal_point", "centre")
    at = "{:.1f}, {:.1f} px".format(*camera["principal_point_px"])
    if wanted == "centre" and "principal_point" in known_gate.get("lens", {}):
        lens.append(
            Row(
                "Centre of lens",
                at,
                "",
                plate_origin(shot.state),
                "where the middle of the sensor lies on this plate, by the gate chain",
            )
        )
    else:
        lens.append(
            Row("Centre of lens", "middle", "", "assumed")
            if wanted == "centre"
            else Row(
                "Centre of lens",
                at,
                "±{:.1f}, {:.1f}".format(*pm["principal_point_px"])
                if known["principal_point"] == "solved"
                else "",
                "solved" if known["principal_point"] == "solved" else "typed",
            )
        )
    for name, value in camera["distortion"].items():
        if name in pm["distortion"]:
            lens.append(
                Row(f"Distortion {name}", *format_value(value, pm["distortion"][name]), "solved")
            )
        elif value:
            lens.append(
                Row(
                    f"Distortion {name}",
                    f"{value:.4g}".replace("-", "−"),
                    "",
                    "catalogue" if shot.state["lens"].get("name") else "typed",
                )
            )
    position, spread = camera["position_m"], pm["position_m"]
    scaled = known["scale"] != "no"
    where = []

    def length(name, value, plus_minus, title=""):
        if value is None:
            return Row(name, "–", title=title)
        if not scaled:
            return Row(
                name,
                *format_value(value, plus_minus, "× far", fallback=3),
                "solved",
                "in units of the distance to the first placed spot",
            )
        return Row(name, *show.length(value, plus_minus), "solved", title)

    where.append(length("Height above floor", position[1], spread[1]))
    if None not in position:
        distance = math.hypot(*position)
        share = (
            math.sqrt(sum((p * s) ** 2 for p, s in zip(position, spread))) / distance
            if distance
            else 0.0
        )
        where.append(length("From the origin", distance, share))
    for axis, name in enumerate(AXES):
        where.append(
            length(f"Position {name}", position[axis], spread[axis], IN_FILES[show.up_axis][axis])
        )
    for name, key in (("Pan", "pan"), ("Tilt", "tilt"), ("Roll", "roll")):
        spread = pm[f"{key}_deg"]
        where.append(
            Row(name, "not determined", "", "")
            if spread is None
            else Row(name, *format_value(camera[f"{key}_deg"], spread, "°"), "solved")
        )
    groups = [("Lens", lens), ("Angle of view", angles), ("Where it stood", where)]
    if checked := _checks(fit):
        groups.append(("Check marks", checked))
    return groups


def _checks(fit) -> list[Row]:
    """What the marks say that take no part in the fit."""
    found = fit.get("checks")
    if not found or found["rms_px"] is None:
        return []
    count = len(found["marks"])
    title = "marks that take no part in the fit and are compared with it"
    return [Row(f"{count} compared", f"{found['rms_px']:.2f} px rms", "", "", title)]


def evidence(shot, fit: dict | None) -> list[dict]:
    """Marks and facts, with what is known of each where there is a fit."""
    ok = bool(fit and fit["ok"])
    residuals = (
        fit["residuals"]
        if ok
        else (fit or {})
        .get("lens", {})
        .get("residuals", {"marks": {}, "facts": {}, "mark_sigmas": {}})
    )
    weights = fit.get("evidence", {}) if ok else {}
    compared = fit.get("checks", {}).get("marks", {}) if ok else {}
    left_out = {item["id"]: item for item in fit.get("mistrusted", ())} if ok else {}
    names = {mark["id"]: mark.get("name") or mark["id"] for mark in shot.state["marks"]}
    rows = []
    for item in shot.state["marks"] + shot.state["facts"]:
        fact = item["kind"] not in ("edge", "spot", "bow")
        own = residuals["facts"].get(item["id"]) if fact else None
        amount = abs(own["sigmas"]) if own else residuals["marks"].get(item["id"])
        if item["id"] in compared:
            amount = compared[item["id"]]
        elif item["id"] in left_out:
            amount = left_out[item["id"]]["px"]
        sigmas = abs(own["sigmas"]) if own else residuals["mark_sigmas"].get(item["id"], 0.0)
        kind = "fact" if fact else item.get("axis") or item["kind"]
        rows.append(
            {
                "id": item["id"],
                "name": describe(item, names, shot.show) if fact else names[item["id"]],
                "role": _role(item, left_out),
                "kind": kind,
                "fact": fact,
                "letter": {
                    "across": "X",
                    "up": "Y",
                    "along": "Z",
                    "bow": "⌒",
                    "spot": "+",
                    "fact": "↕",
                }[kind],
                "off": item.get("off"),
                "residual": "" if amount is None else f"{amount:.1f}",
                "unit": "σ" if fact else "px",
                "amount": amount or 0.0,
                "sigmas": sigmas,
                "bar": 0 if amount is None else min(100, 100 * amount / 4),
                "bad": sigmas > 3,
                "leverage": weights.get(item["id"], {}).get("leverage", 0.0),
            }
        )
    given, kept = shot.state["lens"].get("focal_mm"), shot.state["lens"].get("focal_kept")
    if lens := given or kept:
        rows.append(
            {
                "id": "lens",
                "name": f"Focal length {lens['value']:g} mm ± {lens['plus_minus']:g}",
                "kind": "fact",
                "letter": "f",
                "off": not given,
                "residual": "",
                "unit": "",
                "bar": 0,
                "bad": False,
                "fact": True,
                "fixed": True,
                "amount": 0.0,
                "sigmas": 0.0,
                "leverage": weights.get("focal length", {}).get("leverage", 0.0),
            }
        )
    return rows


def _role(item: dict, left_out: dict) -> str:
    """What a mark is for, where it isn't plain evidence; whether a fact's ± is assumed."""
    if item.get("check"):
        return "check"
    if item["id"] in left_out:
        return "left out"
    return "± assumed" if item.get("assumed") else ""


def describe(fact: dict, names: dict, show) -> str:
    """A fact in a line."""
    name, kind = fact.get("name"), fact["kind"]
    if kind in ("length", "camera_height"):
        value, plus_minus = show.length(fact["metres"], fact["plus_minus"])
        ends = names.get(fact.get("from"), "?") + " – " + names.get(fact.get("to"), "?")
        return (
            f"{name or 'Camera height'} {value} {plus_minus}"
            if kind == "camera_height"
            else f"{name or ends}, {value} {plus_minus}"
        )
    if kind == "camera_position":
        told = ", ".join(
            f"{axis} {show.length(value, fact['plus_minus'])[0]}"
            for axis, value in zip(AXES, fact["metres"])
            if value is not None
        )
        return f"{name or 'Camera'} {told}"
    if kind == "focal_range":
        return f"{name or 'Zoom'} {fact['from_mm']:g}–{fact['to_mm']:g} mm"
    value, plus_minus = format_value(fact["degrees"], fact["plus_minus"], "°")
    basis = {"horizontal": "across", "vertical": "down", "diagonal": "on the diagonal"}
    return f"{name or (fact['of'].capitalize() if kind == 'camera_angle' else 'Angle ' + basis[fact['basis']])} {value} {plus_minus}"


def does(shot, fit: dict | None, id_: str) -> list[tuple[str, str]]:
    """What one mark or fact does to the fit: (name, words) pairs; empty without a camera."""
    if not fit or not fit["ok"] or id_ not in fit.get("evidence", {}):
        return []
    own = fit["evidence"][id_]
    lean = own["leverage"]
    wholly = "wholly: something would be open without it"
    residual = fit["residuals"]["facts"].get(id_)
    out = [("Residual", _own_unit(residual, shot.show))] if residual else []
    out += [
        ("The rest disagrees by", f"{own['sigmas']:.1f} σ"),
        ("The fit leans on it", wholly if lean > 1 - 1e-6 else f"{lean:.0%}"),
    ]
    camera, unit = fit["camera"], "mm" if fit["camera"]["focal_mm"] is not None else "px"
    without = own.get("focal_mm", own.get("focal_px"))
    if without is not None:
        now = camera["focal_mm"] if unit == "mm" else camera["focal_px"][1]
        out.append(
            (
                "Focal length without it",
                f"{without:.2f} {unit} ({without - now:+.2f})".replace("-", "−"),
            )
        )
    if own.get("position_m") and None not in camera["position_m"]:
        moved = math.dist(own["position_m"], camera["position_m"])
        out.append(("The camera would move by", shot.show.length(moved, max(moved / 20, 1e-6))[0]))
    return out


def _own_unit(residual, show) -> str:
    """A fact's residual in its own unit, and in σ."""
    if "metres" in residual:
        told = show.length(residual["metres"], max(abs(residual["metres"]) / 30, 1e-5))[0]
    else:
        unit = "°" if "degrees" in residual else "mm"
        told = format_value(residual.get("degrees", residual.get("mm")), unit=unit, places=3)[0]
    return f"{told} ({residual['sigmas']:+.1f} σ)".replace("-", "−")


def vanishing_map(shot, fit: dict | None) -> dict | None:
    """Where the world's axes vanish, drawn small around the plate: {"box", "plate", "points"} in px of the plate; None without a camera."""
    if not fit or not fit["ok"]:
        return None
    camera = camera_of(fit, document_of(shot.state))
    points = overlay.vanishing_points(camera)
    width, height = camera.grid.width, camera.grid.height
    most = 1.9 * width
    shown = []
    for axis, (x, y) in points.items():
        away = max(abs(x - width / 2), abs(y - height / 2), 1.0)
        share = min(1.0, most / away)
        shown.append(
            {
                "axis": AXES[axis],
                "letter": "XYZ"[axis],
                "far": away > most,
                "x": width / 2 + (x - width / 2) * share,
                "y": height / 2 + (y - height / 2) * share,
            }
        )
    xs, ys = (
        [0, width, *(point["x"] for point in shown)],
        [0, height, *(point["y"] for point in shown)],
    )
    pad = 0.06 * max(max(xs) - min(xs), max(ys) - min(ys))
    left, top, right, bottom = min(xs) - pad, min(ys) - pad, max(xs) + pad, max(ys) + pad
    scale = 340 / max(right - left, 2.2 * (bottom - top))
    for point in shown:
        point["x"], point["y"] = (point["x"] - left) * scale, (point["y"] - top) * scale
    return {
        "width": (right - left) * scale,
        "height": (bottom - top) * scale,
        "points": shown,
        "plate": {
            "x": -left * scale,
            "y": -top * scale,
            "width": width * scale,
            "height": height * scale,
        },
    }

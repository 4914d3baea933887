"""The Match step's report: figures, remarks, evidence, ready for the template."""

import math

from aperture.match.facts import AXES
from aperture.match.solve import camera_of
from aperture.scene import overlay
from aperture.units import format_value
from web.gates.gate import all_around, for_match, plate_origin
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
    camera, pm, known = fit["camera"], fit["plus_minus"], fit["determined"]

    def tag(quantity):
        return {
            "solved": "solved",
            "given": "typed" if quantity in ("focal",) else "assumed",
            "no": "",
        }[known[quantity]]

    view = camera["field_of_view_deg"]
    angles = [
        Row(key.capitalize(), *format_value(view[key], pm[f"{key}_deg"], "°"), tag("focal"))
        for key in ("horizontal", "vertical", "diagonal")
    ]
    if around := all_around(shot.state):
        name = shot.state["lens"]["projection"]
        seen = [Row("Projection", name, "", "typed"), Row("Sees", around, "", "typed")]
        lens = [("Panorama", [*seen, _principal_point_row(shot, fit)])]
    else:
        lens = [("Lens", _lens_rows(shot, fit, tag("focal"))), ("Angle of view", angles)]
    groups = [
        *lens,
        ("Where it stood", _place_rows(fit, shot.show)),
    ]
    if checked := _checks(fit):
        groups.append(("Check marks", checked))
    return groups


def _lens_rows(shot, fit, focal_origin: str) -> list[Row]:
    """Focal length, gate, principal point, distortion."""
    camera, pm = fit["camera"], fit["plus_minus"]
    if camera["focal_mm"] is not None:
        focal = format_value(camera["focal_mm"], pm["focal_mm"], "mm")
    else:
        focal = format_value(camera["focal_px"][0], pm["focal_px"][0], "px", fallback=1)
    gate = for_match(shot.state).get("gate") if shot.state["gate"] else None
    size = "{width_mm:.2f} × {height_mm:.2f}".format(**gate) if gate else "not known"
    rows = [
        Row("Focal length", *focal, focal_origin),
        Row("Gate", size, "", plate_origin(shot.state)),
        _principal_point_row(shot, fit),
    ]
    typed = "catalogue" if shot.state["lens"].get("name") else "typed"
    for name, value in camera["distortion"].items():
        if name in pm["distortion"]:
            shown = format_value(value, pm["distortion"][name])
            rows.append(Row(f"Distortion {name}", *shown, "solved"))
        elif value:
            plain = f"{value:.4g}".replace("-", "−")
            rows.append(Row(f"Distortion {name}", plain, "", typed))
    return rows


def _principal_point_row(shot, fit) -> Row:
    wanted = shot.state["lens"].get("principal_point", "centre")
    at = "{:.1f}, {:.1f} px".format(*fit["camera"]["principal_point_px"])
    if wanted != "centre":
        if fit["determined"]["principal_point"] != "solved":
            return Row("Centre of lens", at, "", "typed")
        plus_minus = "±{:.1f}, {:.1f}".format(*fit["plus_minus"]["principal_point_px"])
        return Row("Centre of lens", at, plus_minus, "solved")
    if "principal_point" in for_match(shot.state).get("lens", {}):
        title = "where the middle of the sensor lies on this plate, by the gate chain"
        return Row("Centre of lens", at, "", plate_origin(shot.state), title)
    return Row("Centre of lens", "middle", "", "assumed")


def _place_rows(fit, show) -> list[Row]:
    """Position and direction."""
    camera, pm = fit["camera"], fit["plus_minus"]
    position, spread = camera["position_m"], pm["position_m"]
    scaled = fit["determined"]["scale"] != "no"

    def length(name, value, plus_minus, title=""):
        if value is None:
            return Row(name, "–", title=title)
        if scaled:
            metres, sigma = show.length(value, plus_minus)
            return Row(name, metres, sigma, "solved", title)
        shown = format_value(value, plus_minus, "× far", fallback=3)
        return Row(name, *shown, "solved", "in units of the distance to the first placed spot")

    rows = [length("Height above floor", position[1], spread[1])]
    if None not in position:
        distance = math.hypot(*position)
        along = sum((p * s) ** 2 for p, s in zip(position, spread))
        share = math.sqrt(along) / distance if distance else 0.0
        rows.append(length("From the origin", distance, share))
    for axis, name in enumerate(AXES):
        title = IN_FILES[show.up_axis][axis]
        rows.append(length(f"Position {name}", position[axis], spread[axis], title))
    for key in ("pan", "tilt", "roll"):
        sigma = pm[f"{key}_deg"]
        if sigma is None:
            rows.append(Row(key.capitalize(), "not determined", "", ""))
        else:
            shown = format_value(camera[f"{key}_deg"], sigma, "°")
            rows.append(Row(key.capitalize(), *shown, "solved"))
    return rows


def _checks(fit) -> list[Row]:
    """What the marks say that take no part in the fit."""
    found = fit.get("checks")
    if not found or found["rms_px"] is None:
        return []
    count = len(found["marks"])
    title = "marks that take no part in the fit and are compared with it"
    return [Row(f"{count} compared", f"{found['rms_px']:.2f} px rms", "", "", title)]


NO_RESIDUALS = {"marks": {}, "facts": {}, "mark_sigmas": {}}
LETTERS = {"across": "X", "up": "Y", "along": "Z", "bow": "⌒", "spot": "+", "fact": "↕"}
FULL_BAR_PX = 4


def evidence(shot, fit: dict | None) -> list[dict]:
    """Marks and facts, with what is known of each where there is a fit."""
    fit = fit or {}
    ok = bool(fit.get("ok"))
    residuals = fit["residuals"] if ok else fit.get("lens", {}).get("residuals", NO_RESIDUALS)
    weights = fit.get("evidence", {}) if ok else {}
    compared = fit.get("checks", {}).get("marks", {}) if ok else {}
    left_out = {item["id"]: item for item in fit.get("mistrusted", ())} if ok else {}
    names = {mark["id"]: mark.get("name") or mark["id"] for mark in shot.state["marks"]}
    rows = []
    for mark in shot.state["marks"]:
        amount = residuals["marks"].get(mark["id"])
        if mark["id"] in compared:
            amount = compared[mark["id"]]
        elif mark["id"] in left_out:
            amount = left_out[mark["id"]]["px"]
        kind = mark.get("axis") or mark["kind"]
        sigmas = residuals["mark_sigmas"].get(mark["id"], 0.0)
        row = _evidence_row(mark, names[mark["id"]], kind, amount, sigmas, weights)
        rows.append(row | {"role": _role(mark, left_out), "unit": "px"})
    for fact in shot.state["facts"]:
        own = residuals["facts"].get(fact["id"])
        amount = abs(own["sigmas"]) if own else None
        name = describe(fact, names, shot.show)
        row = _evidence_row(fact, name, "fact", amount, amount or 0.0, weights)
        rows.append(row | {"role": _role(fact, left_out), "unit": "σ"})
    given, kept = shot.state["lens"].get("focal_mm"), shot.state["lens"].get("focal_kept")
    if focal := given or kept:
        name = f"Focal length {focal['value']:g} mm ± {focal['plus_minus']:g}"
        row = _evidence_row({"id": "lens", "off": not given}, name, "fact", None, 0.0, {})
        leverage = weights.get("focal length", {}).get("leverage", 0.0)
        rows.append(row | {"letter": "f", "unit": "", "fixed": True, "leverage": leverage})
    return rows


def _evidence_row(item, name, kind, amount, sigmas, weights) -> dict:
    """`amount`: the residual as it is listed, in px or σ; None where there is none."""
    return {
        "id": item["id"],
        "name": name,
        "kind": kind,
        "fact": kind == "fact",
        "letter": LETTERS[kind],
        "off": item.get("off"),
        "residual": "" if amount is None else f"{amount:.1f}",
        "amount": amount or 0.0,
        "sigmas": sigmas,
        "bar": min(100, 100 * (amount or 0.0) / FULL_BAR_PX),
        "bad": sigmas > 3,
        "leverage": weights.get(item["id"], {}).get("leverage", 0.0),
    }


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
    if kind == "camera_angle":
        otherwise = fact["of"].capitalize()
    else:
        otherwise = f"Angle {basis[fact['basis']]}"
    return f"{name or otherwise} {value} {plus_minus}"


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
    """Where the world's axes vanish, drawn small around the plate: {"box", "plate", "points"} in px
    of the plate; None without a camera."""
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

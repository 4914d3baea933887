"""Leaves of the report that take work of their own: the kit, what to measure next, the floor,
drafts and revisions."""

import math

from aperture.errors import Problem
from aperture.match import advise, kit
from aperture.match.reach import Reach
from aperture.units import format_value
from web.catalogue.models import CatalogueLens
from web.match.actions import DRAFT_PARTS, put_draft
from web.match.fits import document_of, fit_of, optimum_of
from web.shows.state import once


def kit_choices(shot) -> dict:
    """The round values near the solved lens, with what each costs."""
    fit, document = fit_of(shot.state), document_of(shot.state)
    if not fit or not fit["ok"] or fit["camera"]["focal_mm"] is None:
        return {
            "says": (
                "There is no focal length in millimetres yet: match the camera, with its gate"
                " known."
            )
        }
    lenses = [(str(lens), *lens.data["focal_mm"]) for lens in CatalogueLens.objects.offered()]
    try:
        choices = kit.choices(document, fit, lenses)
    except Problem as problem:
        return {"says": problem.sentence}
    return {
        "choices": [
            {
                "says": one.says,
                "focal": f"{one.focal_mm:.2f} mm",
                "costs": f"{one.costs_px:+.2f} px".replace("-", "−"),
                "sigmas": f"{one.sigmas:.1f} σ",
                "bad": one.sigmas > 3,
                "given": one.focal,
                "fact": one.fact,
            }
            for one in choices
        ],
        "zooms": kit.zooms_that_reach(fit["camera"]["focal_mm"], lenses),
    }


def _told(quantity, value, show):
    if not math.isfinite(value):
        return "open"
    if quantity in ("focal", "size"):
        return f"{value:.2%}"
    if quantity == "direction":
        return format_value(math.degrees(value), unit="°", places=3)[0]
    return show.length(value, value / 30)[0]


def advice(shot, quantity: str) -> dict:
    """What to measure next for a quantity, best first."""
    out = {"quantity": quantity, "quantities": list(advise.QUANTITIES.items())}
    fit = fit_of(shot.state)
    if not fit or not fit["ok"]:
        return out | {"says": "There is no camera yet to advise on."}
    try:
        found = advise.advise(document_of(shot.state), quantity, fit)
    except Problem as problem:
        return out | {"says": problem.sentence}
    rows = [
        {
            "says": one.says,
            "usual": one.plus_minus,
            "after": _told(quantity, one.after, shot.show),
            "share": f"{one.share:.0%}",
            "bar": round(100 * one.share),
            "kind": _form_of(one.fact),
            "fact": one.fact,
            "mark": one.mark,
        }
        for one in found[:9]
    ]
    before = _told(quantity, found[0].before, shot.show) if found else ""
    return out | {
        "rows": rows,
        "before": before,
        "says": "" if rows else _nothing_helps(document_of(shot.state), quantity, fit),
    }


def _nothing_helps(document, quantity, fit) -> str:
    """Why there is nothing to advise: the quantity is open, or known well enough."""
    if not math.isfinite(advise.spread_of_quantity(document, quantity, fit)):
        return (
            "This is not determined yet, and no single measurement would settle it: mark the "
            "origin, and a length or the camera's height."
        )
    return "Nothing that could still be measured would help much: the ± is small already."


def _form_of(fact):
    return (
        {
            "length": "length",
            "camera_height": "height",
            "camera_position": "position",
            "camera_angle": "angle",
        }.get(fact["kind"], "")
        if fact
        else ""
    )


@once
def floor_tilt(state) -> dict | None:
    """By how much the floor may be tilted, and which marks carry it; None without a camera."""
    fit = fit_of(state)
    if not fit or not fit["ok"]:
        return None
    try:
        system, optimum = optimum_of(state)
    except Problem:
        return None
    tilt, carriers = Reach.of(system, optimum).floor_tilt(optimum)
    names = {item["id"]: item.get("name") or item["id"] for item in state["marks"] + state["facts"]}
    on_floor = {
        mark["id"]
        for mark in state["marks"]
        if mark["kind"] == "spot" and (mark.get("world") or [None] * 3)[1] == 0
    }
    told = [
        {"name": names.get(id_, id_), "share": f"{share:.0%}", "floor": id_ in on_floor}
        for id_, share in carriers
        if share > 0.02
    ]
    return {"tilt": f"±{math.degrees(tilt):.2g}°", "carriers": told[:4], "spots": len(on_floor)}


def drafts(shot) -> dict:
    """The drafts of a shot: the one on screen and those put aside."""
    state = shot.state
    locks, current = state.get("draft_locks", []), state.get("draft", "First")
    return {
        "current": current,
        "locked": current in locks,
        "others": [
            {"name": name, "locked": name in locks, "marks": len(content["marks"])}
            for name, content in sorted(state.get("drafts", {}).items())
        ],
    }


def state_of_draft(shot, name: str) -> dict:
    """The shot's state as it would be with another draft on screen. Raises Problem where there is
    none."""
    if name not in shot.state.get("drafts", {}):
        raise Problem(f"There is no draft “{name}”.")
    content = shot.state["drafts"][name]
    changed = shot.state.copy()
    put_draft(changed, content)
    return shot.state | {key: changed[key] for key in DRAFT_PARTS}


def compared(shot, other: dict) -> list[dict]:
    """The figures of the fit on screen and of another state, and by how many σ they differ, the ±
    of both together."""
    mine, theirs = fit_of(shot.state), fit_of(other)
    if not (mine and mine["ok"] and theirs and theirs["ok"]):
        return []
    rows = []

    def row(name, a, b, sa, sb, unit, show=None):
        if None in (a, b, sa, sb):
            return
        spread = math.hypot(sa, sb)
        tell = (
            (lambda value, s: " ".join(show.length(value, s)))
            if show
            else (lambda value, s: " ".join(format_value(value, s, unit)))
        )
        rows.append(
            {
                "name": name,
                "mine": tell(a, sa),
                "theirs": tell(b, sb),
                "sigmas": abs(a - b) / spread if spread > 0 else None,
            }
        )

    a, b, pa, pb = mine["camera"], theirs["camera"], mine["plus_minus"], theirs["plus_minus"]
    row("Focal length", a["focal_mm"], b["focal_mm"], pa["focal_mm"], pb["focal_mm"], "mm")
    for name, key in (("Pan", "pan"), ("Tilt", "tilt"), ("Roll", "roll")):
        row(name, a[f"{key}_deg"], b[f"{key}_deg"], pa[f"{key}_deg"], pb[f"{key}_deg"], "°")
    if mine["determined"]["scale"] == theirs["determined"]["scale"] == "solved":
        for index, name in enumerate(("Position across", "Position up", "Position along")):
            row(
                name,
                a["position_m"][index],
                b["position_m"][index],
                pa["position_m"][index],
                pb["position_m"][index],
                "",
                shot.show,
            )
    rows.append(
        {
            "name": "Residuals",
            "mine": f"{mine['residuals']['rms_px']:.2f} px",
            "theirs": f"{theirs['residuals']['rms_px']:.2f} px",
            "sigmas": None,
        }
    )
    return rows

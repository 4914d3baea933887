"""The Match step's remarks: what needs the artist, in sentences with their remedies."""

from aperture.match.facts import AXES
from aperture.match.file_focal import compare
from aperture.units import format_value
from web.gates.gate import for_match
from web.plates.models import metadata_of, plate_of
from web.ui.rows import Remark

QUANTITIES = {
    "focal": "The focal length",
    "direction": "The direction",
    "position": "The position",
    "scale": "The size of things",
    "principal_point": "The lens's centre",
    "distortion": "The distortion",
}


def sorted_remarks(shot, fit: dict | None) -> dict[str, list[Remark]]:
    """`pressing`: what needs the artist, above the figures; `notes`: what is good to know, below
    them."""
    found = remarks(shot, fit)
    return {
        "pressing": [
            one for one in found if one.kind in ("bad", "doubt") or not (fit and fit["ok"])
        ],
        "notes": [one for one in found if one.kind not in ("bad", "doubt") and fit and fit["ok"]],
    }


def remarks(shot, fit: dict | None) -> list[Remark]:
    """What needs the artist, the worst first."""
    if fit is None:
        return [Remark("No plate yet", "Bring in a picture on the Plate step.", "note")]
    if not fit["ok"]:
        return _without_camera(shot, fit)
    out = [
        Remark("Evidence disagrees", conflict["says"], "doubt", _conflict_remedies(shot, conflict))
        for conflict in fit["conflicts"]
    ]
    missing = fit["missing"]
    size_follows = any(item["quantity"] == "position" for item in missing)
    out += [
        _still_open(shot, fit, item)
        for item in missing
        if not (item["quantity"] == "scale" and size_follows)
    ]
    if fit.get("rival"):
        out.append(Remark("Two answers are possible", fit["rival"]["says"], "doubt"))
    out += _about_the_fit(shot, fit)
    out += _next_to_nothing(shot, fit)
    edges = [mark for mark in shot.state["marks"] if mark["kind"] == "edge"]
    drawn = {mark["axis"] for mark in edges if not mark.get("off")}
    if len(drawn) == 2:
        first, second = sorted(drawn, key=AXES.index)
        (third,) = set(AXES) - drawn
        says = f"Edges {first} and {second} are drawn; {third} follows, at right angles to both."
        out.append(Remark("The third axis is deduced", says, "note"))
    return out


def _without_camera(shot, fit) -> list[Remark]:
    """Why there is no camera, and what the marks tell all the same."""
    if shot.state["marks"]:
        remedies = (*_switches(shot, fit.get("of", [])), *_holds(shot))
        out = [Remark("No camera yet", fit["problem"], "bad", remedies)]
    else:
        out = [Remark("Begin with edges", fit["problem"], "note", ())]
    if lens := fit.get("lens"):
        coefficients = [
            f"{name} {' '.join(format_value(lens['distortion'][name], spread))}"
            for name, spread in lens["plus_minus"]["distortion"].items()
        ]
        says = f"{'; '.join(coefficients)}, with residuals of {lens['residuals']['rms_px']:.2f} px."
        out.append(Remark("What the bows tell", says, "note"))
    return out


def _still_open(shot, fit, missing) -> Remark:
    """What the evidence doesn't determine, and what would settle it."""
    quantity = missing["quantity"]
    says = (
        f"{QUANTITIES[quantity]} can’t be determined from this evidence. "
        f"What would settle it: {missing['would_settle']}."
    )
    if missing.get("says"):
        says += " " + missing["says"]
    if quantity in ("principal_point", "distortion"):
        of_centre = quantity == "principal_point"
        holds = tuple(hold for hold in _holds(shot) if ("centre" in hold[0]) == of_centre)
        return Remark("More is left free than the marks can determine", says, "doubt", holds)
    unscaled = fit["determined"]["scale"] == "no" and quantity == "position"
    return Remark("No size yet" if unscaled else "Still open", says, "note")


def _about_the_fit(shot, fit) -> list[Remark]:
    """What the core says of the fit as a whole, with remedies."""
    out = []
    if suggestion := fit.get("suggestion"):
        name = suggestion["free"]
        free = {"action": shot.url("match-free", name), "fields": {"base": shot.head.number}}
        remedy = (
            ()
            if "distortion" in for_match(shot.state).get("lens", {})
            else ((f"Free {name}", free),)
        )
        out.append(Remark("The lens may bend", suggestion["says"], "doubt", remedy))
    if fit.get("mistrusted"):
        says = " ".join(item["says"] for item in fit["mistrusted"])
        out.append(Remark("Marks left out", says, "doubt"))
    remarks = fit.get("remarks", ())
    widened = [says for says in remarks if "widened" in says]
    if widened and not fit.get("mistrusted") and not shot.state.get("robust"):
        fields = {"base": shot.head.number, "robust": "1"}
        leave_out = {"action": shot.url("match-mistrust"), "fields": fields}
        out.append(
            Remark(
                "Larger than their ± say",
                widened[0],
                "doubt",
                (("Leave out what the others contradict", leave_out),),
            )
        )
        remarks = [says for says in remarks if says not in widened]
    out += [Remark("About the fit", says, "doubt") for says in remarks]
    known = metadata_of(shot.state, plate_of(shot))
    if told := compare(fit, known.get("focal_mm") if shot.state["gate"] else None):
        action = {"action": shot.url("match-file-focal"), "fields": {"base": shot.head.number}}
        label = f"Take {told.focal_mm:g} ± {told.plus_minus_mm:.2g} mm as a fact"
        out.append(Remark("The file disagrees", told.says, "doubt", ((label, action),)))
    return out


def _free(shot) -> tuple[bool, list[str]]:
    """Whether the centre is left free, and which coefficients."""
    lens = shot.state["lens"]
    bend = lens.get("distortion", "none")
    return lens.get("principal_point") == "free", (
        [] if bend == "none" else list(bend.get("free", ()))
    )


def _hold(shot, what, label):
    return label, {"action": shot.url("match-hold", what), "fields": {"base": shot.head.number}}


def _holds(shot) -> tuple:
    """Remedies for a lens of which too much is left free."""
    centre, bend = _free(shot)
    out = [_hold(shot, "centre", "Hold the centre in the middle")] if centre else []
    if len(bend) > 1:
        out.append(_hold(shot, bend[-1], f"Hold {bend[-1]}"))
    return tuple([*out, _hold(shot, "distortion", "Free no distortion")] if bend else out)


def _next_to_nothing(shot, fit) -> list[Remark]:
    """Freed coefficients that the evidence can't tell from zero."""
    centre, bend = _free(shot)
    out = []
    for name in bend:
        value, spread = fit["camera"]["distortion"][name], fit["plus_minus"]["distortion"].get(name)
        given = shot.state["lens"]["distortion"].get(name, 0)
        if (
            spread
            and not given
            and abs(value) < spread
            and fit["determined"]["distortion"] == "solved"
        ):
            out.append(
                Remark(
                    f"{name} is not significantly different from zero",
                    f"{name} is {' '.join(format_value(value, spread))}. Free, it only widens the"
                    " other ±; held at zero it costs next to nothing.",
                    "note",
                    (_hold(shot, name, f"Hold {name}"),),
                )
            )
    if centre and fit["determined"]["principal_point"] == "solved":
        spread = max(fit["plus_minus"]["principal_point_px"])
        if spread > 0.03 * shot.state["plate"]["width"]:
            out.append(
                Remark(
                    "The centre is hardly known",
                    f"The lens’s centre is known to ±{spread:.0f} px only, and the focal length and"
                    " the direction are as loose. Draw edges of all three axes, or hold it.",
                    "doubt",
                    (_hold(shot, "centre", "Hold the centre in the middle"),),
                )
            )
    return out


def _conflict_remedies(shot, conflict):
    out = []
    if "focal length" in conflict["of"]:
        fields = {"base": shot.head.number}
        free = {"action": shot.url("match-remove", "lens"), "fields": fields}
        out.append(("Let the focal length be solved", free))
    return (*out, *_switches(shot, conflict["of"], widen=True))


def _switches(shot, ids, widen: bool = False) -> tuple:
    """For the first two of some marks and facts a remedy that leaves it out, and one that widens
    its ±."""
    base, out = shot.head.number, []
    named = {
        item["id"]: item.get("name") or item["id"]
        for item in shot.state["marks"] + shot.state["facts"]
    }
    for id_ in [id_ for id_ in ids if id_ in named][:2]:
        off = {"action": shot.url("match-switch", id_), "fields": {"off": "1", "base": base}}
        out.append((f"Leave out {named[id_]}", off))
        if widen:
            wider = {"action": shot.url("match-widen", id_), "fields": {"base": base}}
            out.append(("Widen its ± ×3", wider))
    return tuple(out)

"""The report of the Match page: six leaves, of which a browser is sent the one that it has open;
the others come once they are chosen."""

from django.shortcuts import render

from aperture.match.facts import AXES
from web.match import leaves, match_remarks, sheet, track_page
from web.match.fact_forms import FORMS, LensForm
from web.match.fits import fit_of
from web.match.forms import FocalForm, PlaneForm, SurveyForm
from web.match.page import survey
from web.plates.models import metadata_of, plate_of
from web.shows import steps
from web.shows.history import next_revision

LEAVES = {
    "fit": "Fit",
    "tracks": "Tracks",
    "evidence": "Evidence",
    "lens": "Lens",
    "survey": "Survey",
    "next": "Next",
    "drafts": "Drafts",
}
COOKIE = "match_leaf"  # set by the page's script: the leaf that this browser has open
LETTERS = {"across": "X", "up": "Y", "along": "Z"}
SWAPS = (("across", "up"), ("across", "along"), ("up", "along"))
KINDS = (("across", "X"), ("up", "Y"), ("along", "Z"), ("bow", "⌒"), ("spot", "+"))


def context(shot, leaf: str | None = None, forms: dict | None = None) -> dict:
    """What the report's template shows with one leaf filled; with all of them where `leaf` isn't
    known or `forms` hold sentences."""
    # A photograph has no tracks.
    there = {key: name for key, name in LEAVES.items() if key != "tracks" or shot.state["film"]}
    filled = tuple(there) if leaf not in there or forms else (leaf,)
    out = {
        "shot": shot,
        "show": shot.show,
        "leaves": there.items(),
        "leaf": leaf if leaf in there else "fit",
        "filled": filled,
        "opened": next(iter(forms or {}), ""),
        "undoable": shot.head.parent_id is not None,
        "redoable": next_revision(shot),
    }
    for key in filled:
        out |= _FILL[key](shot, fit_of(shot.state), forms or {})
    return out


def _fit(shot, fit, forms) -> dict:
    return {
        "fit": fit,
        "figures": sheet.figures(shot, fit),
        "remarks": match_remarks.sorted_remarks(shot, fit),
        "vanishing": sheet.vanishing_map(shot, fit),
        "tilt": leaves.floor_tilt(shot.state),
    }


def _evidence(shot, fit, forms) -> dict:
    spots = [mark for mark in shot.state["marks"] if mark["kind"] == "spot"]
    base = {"base": shot.head.number}
    ends = {"start": spots[0]["id"], "end": spots[-1]["id"]} if spots else {}
    facts = {
        name: forms.get(name)
        or form(
            show=shot.show,
            spots=spots,
            initial=base | (ends if name == "length" else {}),
            prefix=name,
        )
        for name, form in FORMS.items()
    }
    return {
        "kinds": KINDS,
        "evidence": sheet.evidence(shot, fit),
        "spot_count": len(spots),
        "height": facts["height"],
        "length": facts["length"],
        "more_facts": [(name, facts[name]) for name in ("position", "angle", "view", "range")],
        "planes": shot.state.get("planes", []),
        "plane_form": forms.get("plane") or PlaneForm(show=shot.show, initial=base, prefix="plane"),
        "axes": AXES,
        "swaps": [
            (first, second, f"{LETTERS[first]} and {LETTERS[second]}") for first, second in SWAPS
        ],
    }


def _lens(shot, fit, forms) -> dict:
    lens, base, given = shot.state["lens"], {"base": shot.head.number}, {}
    if focal := lens.get("focal_mm"):
        given = {
            "focal": f"{focal['value']:g} mm",
            "focal_plus_minus": f"{focal['plus_minus']:g} mm",
        }
    return {
        "file_focal": metadata_of(shot.state, plate_of(shot)).get("focal_mm"),
        "focal_form": forms.get("focal") or FocalForm(initial=base | given, prefix="focal"),
        "lens_form": forms.get("lens")
        or LensForm(initial=base | LensForm.initial_of(lens), prefix="lens"),
    }


def _survey(shot, fit, forms) -> dict:
    show = shot.show
    usual = {"base": shot.head.number, "unit": show.length_unit, "up_axis": show.up_axis}
    return {
        "survey": survey(shot.state),
        "survey_form": forms.get("survey") or SurveyForm(initial=usual, prefix="survey"),
    }


def _next(shot, fit, forms) -> dict:
    return {}


def _tracks(shot, fit, forms) -> dict:
    return track_page.context(shot)


def _drafts(shot, fit, forms) -> dict:
    return {"drafts": leaves.drafts(shot)}


_FILL = {
    "fit": _fit,
    "evidence": _evidence,
    "lens": _lens,
    "survey": _survey,
    "tracks": _tracks,
    "next": _next,
    "drafts": _drafts,
}


def renewed(request, shot, forms: dict | None = None):
    """The report with what else on the page an edit changes: the history and the row of steps."""
    more = {"fresh_history": True, "steps": steps.strip(shot, "match")}
    found = context(shot, request.COOKIES.get(COOKIE), forms)
    return render(request, "match/_report.html", found | more)


def answer(request, shot, forms: dict | None = None):
    """The report anew, with 422 where `forms` hold sentences; the page's script is told to fetch
    the marks."""
    response = renewed(request, shot, forms)
    if forms:
        response.status_code = 422
    response["HX-Trigger"] = "evidence-changed"
    return response

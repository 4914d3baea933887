"""What the Match page shows, put together for the views: the script's data, the report with all its leaves."""

import numpy as np
from django.shortcuts import render

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.gates.chain import straight
from aperture.match.facts import AXES
from aperture.match.reach import Reach, ellipse
from aperture.match.solve import camera_of, find
from web.match import aids, leaves, match_remarks, sheet
from web.match.fact_forms import FORMS, LensForm
from web.match.fits import document_of, fit_of
from web.match.forms import FocalForm, PlaneForm, SurveyForm
from web.match.overlay import draw
from web.plates.models import metadata_of, plate_of
from web.shows import steps
from web.shows.history import next_revision


def overlay(shot, state, fit, wished=None, straightened=False) -> dict:
    """What is drawn over the plate: the camera's guides, and the aids that the page wishes for."""
    document = document_of(state)
    camera = camera_of(fit, document) if fit and fit["ok"] else None
    if camera and straightened:
        camera = Camera(camera.grid, straight(camera.lens), camera.world_from_camera)
    drawn = draw(camera, fit or {}, state["marks"], shot.show, residuals=not straightened)
    if camera and wished:
        more = aids.draw(camera, fit, wished, shot.show, document)
        drawn = drawn | {key: drawn[key] + more[key] for key in ("paths", "labels")}
    return drawn


def data(shot, wished=None, straightened=False) -> dict:
    """What the page's script needs."""
    fit = fit_of(shot.state)
    return {
        "revision": shot.head.number,
        "locked": shot.locked or shot.state.get("draft") in shot.state.get("draft_locks", ()),
        "marks": shot.state["marks"],
        "facts": shot.state["facts"],
        "overlay": overlay(shot, shot.state, fit, wished, straightened),
        "residuals": (fit or {}).get("residuals", {}).get("marks", {}),
        "survey": survey(shot, fit),
    }


def survey(shot, fit) -> list[dict]:
    """The surveyed points: which are placed, and where each other should be seen: at px, and the ellipse of one σ."""
    points = shot.state.get("survey", [])
    if not points:
        return []
    placed = {mark.get("name") for mark in shot.state["marks"] if mark["kind"] == "spot"}
    out = [{"name": point["name"], "placed": point["name"] in placed} for point in points]
    if (
        not fit
        or not fit["ok"]
        or fit["determined"]["scale"] == "no"
        or None in fit["camera"]["position_m"]
    ):
        return out
    try:
        reach = Reach.of(*find(document_of(shot.state), fit, own=True))
    except Problem:
        return out
    world, spread = (
        np.array([point["world"] for point in points]),
        np.array([point["plus_minus"] for point in points]),
    )
    at, covariance = reach.expected(world, spread)
    for one, place, own in zip(out, at, covariance):
        if (
            not one["placed"]
            and np.isfinite(place).all()
            and np.isfinite(own).all()
            and (place > 0).all()
            and (place < (reach.camera.grid.width, reach.camera.grid.height)).all()
        ):
            one |= {
                "at": [round(float(v), 2) for v in place],
                "ellipse": [round(v, 2) for v in ellipse(own)],
            }
    return out


LEAVES = (
    ("fit", "Fit"),
    ("evidence", "Evidence"),
    ("lens", "Lens"),
    ("survey", "Survey"),
    ("next", "Next"),
    ("drafts", "Drafts"),
)
LETTERS = {"across": "X", "up": "Y", "along": "Z"}
SWAPS = (("across", "up"), ("across", "along"), ("up", "along"))
KINDS = (("across", "X"), ("up", "Y"), ("along", "Z"), ("bow", "⌒"), ("spot", "+"))


def context(shot, forms=None) -> dict:
    """Everything the report's template shows."""
    fit, plate = fit_of(shot.state), plate_of(shot)
    spots = [mark for mark in shot.state["marks"] if mark["kind"] == "spot"]
    ready = _fresh_forms(shot, spots) | (forms or {})
    return {
        "shot": shot,
        "show": shot.show,
        "leaves": LEAVES,
        "kinds": KINDS,
        "fit": fit,
        "figures": sheet.figures(shot, fit),
        "remarks": match_remarks.sorted_remarks(shot, fit),
        "file_focal": metadata_of(shot.state, plate).get("focal_mm"),
        "evidence": sheet.evidence(shot, fit),
        "forms": ready,
        "more_facts": [(name, ready[name]) for name in ("position", "angle", "view", "range")],
        "opened": next(iter(forms or {}), ""),
        "spot_count": len(spots),
        "planes": shot.state.get("planes", []),
        "axes": AXES,
        "swaps": [
            (first, second, f"{LETTERS[first]} and {LETTERS[second]}") for first, second in SWAPS
        ],
        "survey": survey(shot, fit),
        "drafts": leaves.drafts(shot),
        "vanishing": sheet.vanishing_map(shot, fit),
        "tilt": leaves.floor_tilt(shot, fit),
        "undoable": shot.head.parent,
        "redoable": next_revision(shot),
    }


def _fresh_forms(shot, spots) -> dict:
    """The report's forms as they are before anything is typed, by name."""
    show, lens = shot.show, shot.state["lens"]
    base = {"base": shot.head.number}
    ends = {"start": spots[0]["id"], "end": spots[-1]["id"]} if spots else {}
    given = {}
    if focal := lens.get("focal_mm"):
        given = {
            "focal": f"{focal['value']:g} mm",
            "focal_plus_minus": f"{focal['plus_minus']:g} mm",
        }
    survey_base = base | {"unit": show.length_unit, "up_axis": show.up_axis}
    facts = {
        name: form(
            show=show,
            spots=spots,
            initial=base | (ends if name == "length" else {}),
            prefix=name,
        )
        for name, form in FORMS.items()
    }
    return facts | {
        "focal": FocalForm(initial=base | given, prefix="focal"),
        "lens": LensForm(initial=base | LensForm.initial_of(lens), prefix="lens"),
        "plane": PlaneForm(show=show, initial=base, prefix="plane"),
        "survey": SurveyForm(initial=survey_base, prefix="survey"),
    }


def report(request, shot, forms=None):
    """The report with what else on the page an edit changes: the history and the row of steps."""
    return render(
        request,
        "match/_report.html",
        context(shot, forms) | {"fresh_history": True, "steps": steps.strip(shot, "match")},
    )


def answer(request, shot, forms=None):
    """The report anew, with 422 where `forms` hold sentences; the page's script is told to fetch the marks."""
    response = report(request, shot, forms)
    if forms:
        response.status_code = 422
    response["HX-Trigger"] = "evidence-changed"
    return response

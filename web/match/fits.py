"""From a shot's state to its match document, fit and camera. Every step that needs the camera asks
here."""

import hashlib
import json
import logging
from collections.abc import MutableMapping

from django.db import DatabaseError, transaction

from aperture.camera import Camera
from aperture.match.document import FORMAT
from aperture.match.least_squares import Optimum
from aperture.match.solve import camera_of, find, solve
from aperture.match.system import System
from web.blobs.in_use import referred
from web.gates.gate import FoundLens, for_match
from web.match.models import StoredFit
from web.shows.alone import alone
from web.shows.state import once
from web.ui.prepared import Prepared

# Bumped when the solver's answers change, so that stored fits of an older one are made again.
SOLVER = "6"

logger = logging.getLogger(__name__)


@once
def document_of(state: MutableMapping) -> dict | None:
    """The match document of a shot's state; None until there is a plate."""
    plate = state["plate"]
    if not plate:
        return None
    gate = for_match(state)
    lens = {key: value for key, value in state["lens"].items() if key not in ("name", "focal_kept")}
    if lens.get("principal_point", "centre") == "centre":
        lens.pop("principal_point", None)
        lens |= {
            key: value for key, value in gate.get("lens", {}).items() if key == "principal_point"
        }
    if "distortion" in gate.get("lens", {}):
        lens["distortion"] = gate["lens"]["distortion"]
    document = {
        "format": FORMAT,
        "version": 1,
        "image": {"width": plate["width"], "height": plate["height"]},
        "lens": {
            "projection": "rectilinear",
            "focal_mm": None,
            "principal_point": "centre",
            "distortion": "none",
        }
        | lens,
        "marks": state["marks"],
        "facts": state["facts"],
    }
    if state.get("planes"):
        document["planes"] = state["planes"]
    if state.get("robust"):
        document["robust"] = True
    if gate:
        document["gate"] = gate["gate"]
    else:
        document["lens"]["focal_mm"] = None  # millimetres mean nothing without a gate
    return document


def digest_of(document: dict) -> str:
    """SHA-256 of the document in canonical form, and of the solver's version."""
    return hashlib.sha256(
        (SOLVER + json.dumps(document, sort_keys=True, separators=(",", ":"))).encode()
    ).hexdigest()


_stored = Prepared(lambda digest: StoredFit.objects.filter(digest=digest)[:1])


@once
def fit_of(state: MutableMapping) -> dict | None:
    """The fit of a shot's state, from the store or solved now, always from a cold start; None
    without a plate."""
    document = document_of(state)
    if document is None:
        return None
    digest = digest_of(document)
    stored = _stored.first(digest)
    return (stored or _solved(digest, document)).fit


@once
def optimum_of(state: MutableMapping) -> tuple[System, Optimum]:
    """The equations and their optimum behind a shot's fit. Raises Problem where there is none."""
    return find(document_of(state), fit_of(state), own=True)


def _solved(digest: str, document: dict) -> StoredFit:
    """Solve and store; when several ask for the same new fit at once, one solves and the others
    wait for it."""
    with alone("fit", digest):
        stored = StoredFit.objects.filter(digest=digest).first()
        return stored or _kept(StoredFit(digest=digest, fit=solve(document).document))


def _kept(fit: StoredFit) -> StoredFit:
    """Store a fit, unless somebody else has; one that can't be stored (a full disk, say) still is
    the fit."""
    try:
        with transaction.atomic():
            return StoredFit.objects.get_or_create(digest=fit.digest, defaults={"fit": fit.fit})[0]
    except DatabaseError:
        logger.exception("A fit can't be stored")
        return fit


@once
def still_camera_of(state: MutableMapping) -> Camera | None:
    """The camera that the marks of the picture that is worked on give, with its place in the world;
    None where the fit has none."""
    fit = fit_of(state)
    if not fit or not fit["ok"] or None in fit["camera"]["position_m"]:
        return None
    return camera_of(fit, document_of(state))


@once
def lens_of_match(state: MutableMapping) -> FoundLens | None:
    """The matched lens, for the Gate step's figures; None where the fit has none, or the gate isn't
    known."""
    fit = fit_of(state)
    if not fit or not fit["ok"] or not state["gate"] or fit["determined"]["focal"] == "no":
        return None
    given = "catalogue" if state["lens"].get("name") else "typed"
    return FoundLens(
        camera_of(fit, document_of(state)).lens,
        "solved" if fit["determined"]["focal"] == "solved" else given,
    )


def blobs_in_use():
    """The blobs that kept fits refer to."""
    for fit in StoredFit.objects.values_list("fit", flat=True).iterator(chunk_size=200):
        yield from referred(fit)

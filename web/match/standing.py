"""How far the Match step is."""

from web.match.fits import fit_of
from web.match.path_fits import is_old, path_fit, served, solved_path
from web.shows.steps import Standing


def standing(shot) -> Standing:
    """Settled with a camera in real size and no conflicts; needs the artist where evidence
    disagrees or gives no camera. Of a film it is the path that counts, once it stands in the
    world."""
    if (move := served(shot.state)) is not None:
        says = f"move {move.name}"[:40]
        return Standing("settled", says) if move.path is not None else Standing("needs", says)
    if solved_path(shot.state) is not None:
        return _of_path(shot.state)
    if not shot.state["marks"]:
        if shot.state["path"]:
            return Standing("begun", "path without a place")
        return Standing("nothing", "no marks")
    fit = fit_of(shot.state)
    if fit is None:
        return Standing("nothing", "no plate")
    if not fit["ok"]:
        return Standing("begun" if len(shot.state["marks"]) < 4 else "needs", "no camera yet")
    if fit["conflicts"]:
        return _conflicts(fit)
    if fit["missing"]:
        return Standing("begun", "no size yet" if fit["determined"]["scale"] == "no" else "begun")
    return Standing("settled", f"{fit['residuals']['rms_px']:.2f} px rms")


def _of_path(state) -> Standing:
    fit = path_fit(state)
    assert fit is not None, "a path that stands in the world was solved"
    if fit["conflicts"]:
        return _conflicts(fit)
    if is_old(state):
        return Standing("begun", "path to solve again")
    off = fit["residuals"]
    return Standing("settled", f"path, {off.get('weighted_px', off['rms_px']):.2f} px rms")


def _conflicts(fit) -> Standing:
    count = len(fit["conflicts"])
    return Standing("needs", f"{count} conflict{'s' if count > 1 else ''}")

"""How far the Match step is."""

from web.match.fits import fit_of
from web.match.path_fits import served
from web.shows.steps import Standing


def standing(shot) -> Standing:
    """Settled with a fit in real size and no conflicts; needs the artist where evidence disagrees
    or gives no camera."""
    if (move := served(shot.state)) is not None:
        says = f"move {move.name}"[:40]
        return Standing("settled", says) if move.path is not None else Standing("needs", says)
    if not shot.state["marks"]:
        return Standing("nothing", "no marks")
    fit = fit_of(shot.state)
    if fit is None:
        return Standing("nothing", "no plate")
    if not fit["ok"]:
        return Standing("begun" if len(shot.state["marks"]) < 4 else "needs", "no camera yet")
    if fit["conflicts"]:
        count = len(fit["conflicts"])
        return Standing("needs", f"{count} conflict{'s' if count > 1 else ''}")
    if fit["missing"]:
        return Standing("begun", "no size yet" if fit["determined"]["scale"] == "no" else "begun")
    return Standing("settled", f"{fit['residuals']['rms_px']:.2f} px rms")

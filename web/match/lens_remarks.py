"""What is said of a lens on every page that uses it."""

from collections.abc import MutableMapping

from aperture.match.remarks import unseen_share
from web.match.path_fits import camera_of_state
from web.ui.rows import Remark


def lens_remarks(state: MutableMapping) -> list[Remark]:
    """A remark where the matched lens has no answer in a part of the picture."""
    camera = camera_of_state(state)
    share = unseen_share(camera.lens, camera.grid) if camera else 0.0
    if not share:
        return []
    says = (
        f"Its distortion folds back inside the picture: for {share:.0%} of it the model has no "
        "answer, and nothing is drawn, rendered or handed off right there. Free fewer coefficients "
        "on the Match step."
    )
    return [Remark("The lens can't be used at the border", says, "bad")]

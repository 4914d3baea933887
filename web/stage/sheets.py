"""What the Set page's leaves of cameras and of the plate show."""

import numpy as np

from aperture.match.facts import AXES
from aperture.scene import gaps
from web.gates.gate import gate_words, plate_origin
from web.shows.models import Shot
from web.stage import worn
from web.stage.camera_forms import CameraForm, LooksForm
from web.stage.cameras import ShotCamera
from web.stage.page import card_rows
from web.stage.stand_ins import extra, shown, stand_in_from
from web.stage.world import CARD_IN, card_distance, card_in, card_left
from web.ui.rows import Remark, Row


def _lens_rows(camera, origin, gate_origin) -> list[Row]:
    if camera.lens.projection.around:
        return [Row("Sees", gate_words(camera), origin=gate_origin)]
    lens, gate = gate_words(camera).split(" · gate ")
    return [Row("Lens", lens, origin=origin), Row("Gate", gate, origin=gate_origin)]


def camera_sheet(shot: Shot, through: ShotCamera | None, forms: dict) -> dict:
    """The chosen camera's figures and forms."""
    if through is None:
        return {}
    base, camera = {"base": shot.head.number}, through.camera
    item = next((one for one in shot.state.get("cameras", []) if one["id"] == through.id), None)
    pan, tilt, roll = np.degrees(camera.angles)
    origin = "typed" if through.kind == "typed" else "solved"
    rows = [
        *(
            Row(f"Stands at {name}", shot.show.length(float(value))[0], origin=origin)
            for name, value in zip(AXES, camera.position)
        ),
        Row("Pan, tilt, roll", f"{pan:z.2f}°, {tilt:z.2f}°, {roll:z.2f}°", origin=origin),
        *_lens_rows(camera, origin, "typed" if through.own else plate_origin(shot.state)),
    ]
    verbs = [("copy", "Copy it"), ("type", "Type a new one")]
    if through.own:
        verbs.append(("lock", "Unlock it" if through.locked else "Lock it"))
    return {
        "camera_verbs": verbs,
        "camera_form": (
            forms.get("camera")
            or item
            and CameraForm(show=shot.show, item=item, auto_id="camera_%s", initial=base)
        ),
        "looks_form": (
            forms.get("looks")
            or LooksForm(show=shot.show, looks=through.looks, auto_id="looks_%s", initial=base)
        ),
        "camera_rows": rows,
    }


def plate_sheet(shot: Shot, matched) -> dict:
    """The card, how much of each stand-in wears the plate, and where neighbours leave gaps."""
    if matched is None:
        return {}
    out = {
        "card": shot.show.length(card_distance(shot, matched)),
        "card_rows": card_rows(shot, matched),
        "card_in": card_in(shot),
        "card_places": list(CARD_IN.items()),
        "card_left": card_left(shot) is not None,
    }
    out["wears"] = [
        (
            item,
            extra(item, "material") == "plate",
            worn.shares(shot, matched, item["id"]) if extra(item, "material") == "plate" else None,
        )
        for item in shown(shot.state)
    ]
    out["remarks"] = _gaps(shot)
    return out


def _gaps(shot) -> list[Remark]:
    items = shown(shot.state)
    out = []
    for gap in gaps.find([stand_in_from(item) for item in items]):
        first, second = items[gap.first], items[gap.second]
        remedies: tuple[tuple[str, dict], ...] = ()
        movable = [
            (item, sign) for item, sign in ((second, 1), (first, -1)) if not extra(item, "locked")
        ]
        if gap.shift and movable:
            item, sign = movable[0]
            fields = {
                "base": shot.head.number,
                "shift": " ".join(f"{v * sign:.6f}" for v in gap.shift),
            }
            remedies = (
                (
                    f"Close it by moving “{item['name']}”",
                    {"action": shot.url("set-shift", item["id"]), "fields": fields},
                ),
            )
        out.append(
            Remark(
                "A gap",
                f"Between “{first['name']}” and “{second['name']}”: up to"
                f" {shot.show.length(gap.width)[0]} wide along {shot.show.length(gap.length)[0]}."
                " Shadows and reflections leak through there.",
                "doubt",
                remedies,
            )
        )
    return out

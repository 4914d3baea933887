"""What the Set page's lens view draws, px; the sheet's rows and remarks."""

import numpy as np

from aperture.scene import handles, overlay
from aperture.units import METRES
from web.match.fits import fit_of
from web.match.overlay import path_of, spacing_for
from web.plates.frames import number_now, offset_of
from web.stage.cameras import MATCHED, matched_of
from web.stage.stand_ins import extra, shown, stand_in_from
from web.stage.ways import own_keys, ways_of
from web.stage.world import card_corners, card_in, card_left, cut_off, solids, world
from web.ui.rows import Remark, Row


def page_data(shot, cameras, through, plate=None) -> dict:
    """Everything the script needs. `through`: the camera of the lens view."""
    items = shown(shot.state)
    out = {
        "revision": shot.head.number,
        "items": items,
        "lens": [],
        "handles": {},
        "paths": [],
        "through": None,
        "world": world(shot, cameras, items, through, plate),
    }
    if through is None:
        return out
    camera = through.camera
    out |= {
        "through": through.id,
        "picture": [camera.grid.width, camera.grid.height],
        "plate": (
            [shot.state["plate"]["width"], shot.state["plate"]["height"]]
            if shot.state["plate"]
            else None
        ),
        "card": _card_seen(shot, cameras, through),
    }
    spacing = spacing_for(camera, METRES[shot.show.length_unit])
    out["paths"] = [{"class": "floor", "d": path_of(overlay.floor_grid(camera, spacing, 12))}]
    return out | _drawn(camera, items)


def moved_data(shot, through, items) -> dict:
    """What of `page_data` changes while some stand-ins are dragged: theirs alone."""
    return _drawn(through.camera, items) | {"solids": solids(shot, items)}


def _drawn(camera, items) -> dict:
    """The stand-ins' edges and handles on the picture of a camera."""
    lens, places = [], {}
    for item in items:
        placed, locked = stand_in_from(item), extra(item, "locked")
        lens.append(
            {
                "id": item["id"],
                "d": path_of(overlay.wire(camera, placed)),
                "name": item["name"],
                "locked": locked,
            }
        )
        places[item["id"]] = {} if locked else _handles(camera, placed)
    return {"lens": lens, "handles": places}


def _handles(camera, placed) -> dict:
    """Where the handles of a stand-in are seen, px by name."""
    at = handles.places(placed)
    seen = camera.project(list(at.values()))
    return {name: place.tolist() for name, place in zip(at, seen) if np.isfinite(place).all()}


def _card_seen(shot, cameras, through):
    """How the lens view shows the plate: true: filling it; false: not at all; or the map from the
    plate's px to the picture's, nine numbers row by row, where it hangs in space."""
    import cv2

    matched = matched_of(cameras)
    if card_in(shot) == "set" or matched is None:
        return False
    if through.id == MATCHED and card_left(shot) is None:
        return True
    if through.id != MATCHED and card_in(shot) == "lens":
        return False
    corners = through.camera.project(card_corners(shot, matched.camera))
    if not np.isfinite(corners).all() or np.abs(corners).max() > 1e5:
        return False
    grid = matched.camera.grid
    corner = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)
    plate = corner * np.array([grid.width, grid.height], np.float32)
    return cv2.getPerspectiveTransform(plate, corners.astype(np.float32)).ravel().tolist()


def card_rows(shot, camera) -> list[Row]:
    """How large the plate is where its card stands; nothing of a panorama, which has none."""
    if camera.lens.projection.around:
        return []
    corners = card_corners(shot, camera)
    across, down = np.linalg.norm(corners[1] - corners[0]), np.linalg.norm(corners[3] - corners[0])
    return [
        Row(
            "Plate there",
            " × ".join(shot.show.length(float(side))[0] for side in (across, down)),
            origin="solved",
        )
    ]


def item_rows(shot, camera, item) -> list[Row]:
    """How far and how large the chosen stand-in is."""
    if item is None or camera is None:
        return []
    placed = stand_in_from(item)
    apart = np.linalg.norm(np.array(placed.base) - camera.position)
    px = camera.project(overlay.outline_points(placed))
    rows = [Row("From the camera", *shot.show.length(float(apart)), origin="solved")]
    if np.isfinite(px).all():
        size = px.max(axis=0) - px.min(axis=0)
        rows.append(Row("On the plate", f"{size[0]:.0f} × {size[1]:.0f} px", origin="solved"))
    return rows


def way_rows(shot, item) -> dict | None:
    """The keys of the chosen stand-in, for the sheet; None where there are no frames to move
    over."""
    if item is None or not shot.state["film"]:
        return None
    offset, now, length = offset_of(shot.state), number_now(shot.state), shot.show.length
    keys = own_keys(item)
    return {
        "keys": [
            {
                "frame": number + offset,
                "here": number == now,
                "says": ", ".join(length(value)[0] for value in base),
            }
            for number, base, _ in keys
        ],
        "frame": now + offset,
        "here": any(key[0] == now for key in keys),
        "smooth": bool(item.get("way", {}).get("smooth")),
        "carried": not keys and item["id"] in ways_of(shot.state["stand_ins"]),
    }


def remarks(shot, camera, item) -> list[Remark]:
    """What needs the artist: no camera, no scale, what is behind the camera or the card, sizes that
    look like another unit."""
    if camera is None:
        return [
            Remark(
                "No camera yet",
                "Match the plate and place the origin first: a stand-in needs a floor to stand on.",
                "note",
            )
        ]
    out = []
    fit = fit_of(shot.state)
    if fit and fit["ok"] and fit["determined"]["scale"] == "no":
        out.append(
            Remark(
                "The size of things is unknown",
                "Stand-ins are in units of the distance from the camera to the first placed spot,"
                " until a length or the camera’s height is known on the Match step.",
                "doubt",
            )
        )
    if item:
        out += _about(item, camera)
    if card_in(shot) != "lens" and (names := cut_off(shot, camera)):
        out.append(_behind_card(names))
    return out


def _about(item, camera) -> list[Remark]:
    """What is odd about the chosen stand-in."""
    out, placed = [], stand_in_from(item)
    if camera.to_camera_space(placed.bounds())[:, 2].min() > 0:
        says = f"“{item['name']}” stands behind the camera and can’t be seen on the plate."
        out.append(Remark("Behind the camera", says, "doubt"))
    for number, note in enumerate(item.get("notes", [])):
        title, kind = ("Its faces", "doubt") if number else ("About this mesh", "note")
        out.append(Remark(title, note, kind))
    if odd := placed.oddity():
        out.append(Remark("Another unit?", odd, "doubt"))
    return out


def _behind_card(names: list[str]) -> Remark:
    shown = " and ".join(f"“{name}”" for name in names[:3])
    if len(names) > 3:
        shown += f" and {len(names) - 3} more"
    reaches = "reaches" if len(names) == 1 else "reach"
    says = (
        f"{shown} {reaches} beyond the card, which hides what is behind it. Move it away, or show"
        " it in the lens view only."
    )
    return Remark("Behind the plate card", says, "note")

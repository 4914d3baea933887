"""What the Set page draws: the lens view in px, the set view in metres of the show's up axis; its rows and remarks."""

import numpy as np

from aperture.formats.axes import from_y_up
from aperture.scene import handles, overlay
from aperture.units import METRES
from web.match.fits import fit_of
from web.match.overlay import path_of, spacing_for
from web.stage.stand_ins import extra, shown, stand_in_from
from web.ui.rows import Remark, Row

CARD_REACH = 1.35  # where the plate card stands unless told, as a share of the distance from the camera to the origin


def page_data(shot, camera, items=None) -> dict:
    """Everything the script needs; `items`: as they would be after an edit that isn't saved."""
    items = shown(shot.state) if items is None else items
    out = {"revision": shot.head.number, "items": items, "lens": [], "handles": {}, "paths": [], "world": None}
    if camera is None:
        return out
    spacing = spacing_for(camera, METRES[shot.show.length_unit])
    out["paths"] = [{"class": "floor", "d": path_of(overlay.floor_grid(camera, spacing, 12))}]
    turn, solids = from_y_up(shot.show.up_axis), {}
    for item in items:
        placed = stand_in_from(item)
        out["lens"].append({"id": item["id"], "d": path_of(overlay.wire(camera, placed)), "name": item["name"], "locked": extra(item, "locked")})
        out["handles"][item["id"]] = {name: at.tolist() for name, point in handles.places(placed).items()
                                      if np.isfinite(at := camera.project([point])[0]).all()} if not extra(item, "locked") else {}
        solids[item["id"]] = _in_set_view(placed, turn)
    out["world"] = {"up": shot.show.up_axis, "spacing": spacing, "solids": solids, "spots": _spots(shot, turn), **_frustum(camera, turn)}
    return out


def _in_set_view(placed, turn) -> dict:
    """Points, triangles and drawn lines as flat lists."""
    if len(placed.solid.triangles) > overlay.MOST_DRAWN:
        points, faces, lines = placed.bounds(), np.zeros(0, int), overlay.BOX_EDGES
    else:
        points, faces = placed.vertices(), placed.solid.triangles
        edges, sides = placed.solid.edges
        normals = placed.solid.face_normals(points)
        lines = edges[(sides[:, 1] < 0) | ((normals[sides[:, 0]] * normals[sides[:, 1]]).sum(axis=1) < overlay.CREASE)]
    return {"points": np.round(points @ turn.T, 5).ravel().tolist(), "faces": faces.ravel().tolist(), "lines": lines.ravel().tolist()}


def _spots(shot, turn) -> list[dict]:
    """The spots whose place the fit knows, with their ±, for the set view."""
    fit = fit_of(shot.state)
    if not fit.get("ok") or fit["determined"]["scale"] == "no":
        return []
    names = {mark["id"]: mark.get("name") or mark["id"] for mark in shot.state["marks"]}
    return [{"name": names.get(id_, id_), "at": (turn @ spot["world_m"]).tolist(), "plus_minus": np.abs(turn @ spot["plus_minus_m"]).tolist()}
            for id_, spot in fit.get("spots", {}).items() if None not in spot["world_m"]]


def card_distance(shot, camera) -> float:
    """Metres along the axis to the plate card: as chosen, or where it is of use."""
    return float(shot.state.get("card_m") or max(np.linalg.norm(camera.position) * CARD_REACH, 0.5))


def _card(camera, distance):
    """The corners (4, 3) metres of the plate at a distance along the axis; a lens that forms no picture in the corners gives a smaller one."""
    width, height = camera.grid.width, camera.grid.height
    rays = camera.rays([[0, 0], [width, 0], [width, height], [0, height]])
    if not np.isfinite(rays).all() or ((rays @ camera.rotation)[:, 2] > -0.05).any():
        rays = camera.rays([[width * x, height * y] for x, y in ((.1, .1), (.9, .1), (.9, .9), (.1, .9))])
    depth = -(rays @ camera.rotation)[:, 2]
    return camera.position + rays / depth[:, None] * distance


def _frustum(camera, turn) -> dict:
    return {"camera": (turn @ camera.position).tolist(), "right": (turn @ camera.rotation[:, 0]).tolist(), "up_vector": (turn @ camera.rotation[:, 1]).tolist(),
            "ahead": (turn @ -camera.rotation[:, 2]).tolist(), "unit_card": ((_card(camera, 1.0) - camera.position) @ turn.T).tolist()}


def card_rows(shot, camera) -> list[Row]:
    """How large the plate is where its card stands."""
    distance = card_distance(shot, camera)
    corners = _card(camera, distance)
    across, down = np.linalg.norm(corners[1] - corners[0]), np.linalg.norm(corners[3] - corners[0])
    return [Row("Plate there", " × ".join(shot.show.length(float(side))[0] for side in (across, down)), origin="solved")]


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


def remarks(shot, camera, item) -> list[Remark]:
    """What needs the artist: no camera, no scale, what is behind the camera or the card, sizes that look like another unit."""
    if camera is None:
        return [Remark("No camera yet", "Match the plate and place the origin first: a stand-in needs a floor to stand on.", "note")]
    out = []
    if fit_of(shot.state)["determined"]["scale"] == "no":
        out.append(Remark("The size of things is unknown", "Stand-ins are in units of the distance from the camera to the first placed spot, until a "
                          "length or the camera’s height is known on the Match step.", "doubt"))
    if item:
        placed = stand_in_from(item)
        if camera.to_camera_space(placed.bounds())[:, 2].min() > 0:
            out.append(Remark("Behind the camera", f"“{item['name']}” stands behind the camera and can’t be seen on the plate.", "doubt"))
        if odd := placed.oddity():
            out.append(Remark("Another unit?", odd, "doubt"))
    distance = card_distance(shot, camera)
    beyond = [other["name"] for other in shown(shot.state) if (-camera.to_camera_space(stand_in_from(other).bounds())[:, 2]).max() > distance + 1e-6]
    if beyond:
        names = " and ".join(f"“{name}”" for name in beyond[:3]) + (f" and {len(beyond) - 3} more" if len(beyond) > 3 else "")
        reaches = "reaches" if len(beyond) == 1 else "reach"
        out.append(Remark("Behind the plate card", f"{names} {reaches} beyond the card at {shot.show.length(distance)[0]}, which hides what is behind it in "
                          "the set view.", "note"))
    return out

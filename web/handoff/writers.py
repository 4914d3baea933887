"""Writes each file of a hand-off: one function for each, by the ending of its name."""

import json
from collections.abc import Callable
from dataclasses import replace
from functools import cached_property
from pathlib import Path

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import (
    alembic,
    check,
    collada,
    gltf,
    lens_maps,
    obj,
    open_track,
    ply,
    table,
    usd,
)
from aperture.formats.extras import Extras
from aperture.formats.prepared import Prepared, prepared, scaled_extras, scaled_set
from aperture.formats.recipe import Recipe
from aperture.scene.stand_in import StandIn
from web.expose import blurring, exposure, focusing, looks, whites
from web.handoff.cameras import over_frames, require_camera
from web.handoff.contents import cameras_going, extras_of, stand_ins_going
from web.handoff.pdf import sheet_pdf
from web.match.fits import document_of, fit_of
from web.match.path_fits import path_fit
from web.plates.frames import span_of
from web.plates.models import frame_of, metadata_of, plate_of
from web.shows.models import Shot
from web.stage.cameras import f_number
from web.stage.places import points_of


class Source:
    """What the files of a shot are written from, worked out once for all of them, by a recipe where
    one is chosen. Raises Problem without a camera.
    """

    def __init__(self, shot: Shot, recipe: Recipe | None = None) -> None:
        self.shot, self.show = shot, shot.show
        self.recipe = recipe or Recipe(up_axis=shot.show.up_axis, unit=shot.show.length_unit)
        self.plate_camera = require_camera(shot)
        self.name = f"{shot.code}_camera"
        self.axes = (self.recipe.unit, self.recipe.up_axis)

    @cached_property
    def camera(self) -> Camera:
        """The camera, as the recipe wants it. Raises Problem where it can't be baked."""
        return prepared(self.plate_camera, self.recipe)

    @property
    def frame(self) -> int:
        """The frame that is worked on, as the recipe counts."""
        return frame_of(self.shot) + self.recipe.frame_offset

    @cached_property
    def over(self) -> dict[int, Camera] | None:
        """The camera of each frame of a film; None of a photograph."""
        found = over_frames(self.shot, self.plate_camera)
        if found is None:
            return None
        offset, made = self.recipe.frame_offset, Prepared(self.recipe)
        return {frame + offset: made.of(camera) for frame, camera in found.items()}

    @property
    def by_frame(self) -> dict[int, Camera]:
        """The cameras by frame, of a photograph too."""
        return self.over or {self.frame: self.camera}

    @cached_property
    def stand_ins(self) -> dict[str, StandIn]:
        """Those that go into the files, by name."""
        found = scaled_set(stand_ins_going(self.shot), self.recipe.scale)
        late = self.recipe.frame_offset
        return {
            name: replace(item, way=item.way.delayed(late)) if item.way else item
            for name, item in found.items()
        }

    @cached_property
    def extras(self) -> Extras:
        """Points, spots and the plate card, as far as they go."""
        return scaled_extras(extras_of(self.shot), self.recipe.scale)

    @cached_property
    def shown(self) -> tuple[usd.Shown, dict[str, usd.Shown]]:
        """The matched camera and the others by name, with what is known of their focus and stop."""
        known = metadata_of(self.shot.state, plate_of(self.shot))
        matched, *others = cameras_going(self.shot)

        def shown(one):
            focus = one.looks["focus_m"]
            own = prepared(one.camera, self.recipe)
            return usd.Shown(own, focus and focus * self.recipe.scale, f_number(one, known))

        focus, stop = focusing.focus_at(self.shot).metres, focusing.stop_at(self.shot)
        focus = focus and focus * self.recipe.scale
        return usd.Shown(self.camera, focus, stop), {one.name: shown(one) for one in others}

    @cached_property
    def over_time(self) -> tuple[dict[int, float], dict[int, float]]:
        """Focus in metres and f-number by frame of a film, where they are known."""
        if self.over is None:
            return {}, {}
        return self._by_recipe(*focusing.over_time(self.shot, self.own_frames))

    @property
    def own_frames(self) -> list[int]:
        """The frames of `by_frame`, as the shot counts them."""
        return [frame - self.recipe.frame_offset for frame in self.by_frame]

    def _by_recipe(
        self, focus: dict[int, float], stop: dict[int, float]
    ) -> tuple[dict[int, float], dict[int, float]]:
        offset, scale = self.recipe.frame_offset, self.recipe.scale
        return (
            {frame + offset: scale * metres for frame, metres in focus.items()},
            {frame + offset: value for frame, value in stop.items()},
        )

    @cached_property
    def taken(self) -> open_track.Taken:
        """Focus, stop, shutter and ISO of the matched camera, as far as they are known."""
        focus, stop = self._by_recipe(*focusing.over_time(self.shot, self.own_frames))
        given, own = exposure.of_camera(self.shot), exposure.glass_of(self.shot)
        shutter = blurring.shutter_of(self.shot)
        angle = 360 * shutter.open_frames
        return open_track.Taken(
            focus,
            stop,
            own["transmittance"],
            angle if 0 < angle <= 360 else None,
            given["iso"].value,
        )

    @cached_property
    def exposed(self) -> usd.Exposed:
        """Shutter and exposure of the matched camera, as far as they are known."""
        shutter = blurring.shutter_of(self.shot)
        own = exposure.camera_exposure(self.shot)
        is_open = (shutter.opens, shutter.closes) if shutter.open_frames else None
        return usd.Exposed(is_open, exposure.brighter(self.shot) if own else None)

    @cached_property
    def maps(self) -> lens_maps.LensMaps:
        """Of the lens. Raises Problem where no straight picture holds the plate."""
        return lens_maps.lens_maps(self.plate_camera)


def _usd(path: Path, of: Source) -> None:
    matched, others = of.shown
    usd.write(
        path,
        matched,
        of.stand_ins,
        of.recipe.up_axis,
        of.frame,
        rate=of.show.rate,
        name=of.name,
        notes=f"{of.show.name}, {of.shot.code}, revision {of.shot.head.number}",
        others=others,
        path_of_camera=of.over,
        extras=of.extras,
        focus_m=of.over_time[0],
        f_number=of.over_time[1],
        exposed=of.exposed,
    )


def _alembic(path: Path, of: Source) -> None:
    matched, others = of.shown
    rate = of.show.rate
    alembic.write(
        path, matched, of.stand_ins, of.name, of.by_frame, rate, *of.axes, others, of.extras
    )


def _gltf(path: Path, of: Source) -> None:
    gltf.write(path, of.camera, of.stand_ins, of.name, of.over, of.show.rate, of.extras)


def _collada(path: Path, of: Source) -> None:
    rate = of.show.rate
    collada.write(path, of.camera, of.stand_ins, of.name, of.over, rate, *of.axes, of.extras)


def _open_track(path: Path, of: Source) -> None:
    path.write_text(
        open_track.write(of.by_frame, of.name, of.show.rate, of.taken), encoding="utf-8"
    )


def _table(path: Path, of: Source) -> None:
    table.write(path, of.by_frame)


def _obj(path: Path, of: Source) -> None:
    if not of.stand_ins:
        raise Problem(
            "There are no stand-ins to write: place one on the Set step, or let one go into the "
            "files."
        )
    obj.write(path, of.stand_ins, *of.axes)


def _ply(path: Path, of: Source) -> None:
    points = np.array(list(points_of(of.shot).values()))
    if not len(points):
        raise Problem("There are no tracked points in the world: solve and place the path.")
    ply.write(path, (of.recipe.scale * points).tolist(), *of.axes)


def _map_says(of: Source) -> dict[str, str]:
    return {"comments": f"{of.show.name}, {of.shot.code}: R = u right, G = v up, at pixel centres"}


def _undistort(path: Path, of: Source) -> None:
    lens_maps.write_map(path, of.maps.undistort, _map_says(of))


def _redistort(path: Path, of: Source) -> None:
    lens_maps.write_map(path, of.maps.redistort, _map_says(of))


def _opencv(path: Path, of: Source) -> None:
    lens_maps.write_opencv(path, of.plate_camera)


def _pdf(path: Path, of: Source) -> None:
    path.write_bytes(sheet_pdf(of.shot))


def _check(path: Path, of: Source) -> None:
    path.write_text(check.write_check(of.by_frame, of.name, *of.axes), encoding="utf-8")


def light_json(shot: Shot) -> dict:
    """Exposure, focus, blur, white and look as numbers; null where one isn't known."""
    given = exposure.of_camera(shot)
    own, shutter = exposure.camera_exposure(shot), blurring.shutter_of(shot)
    white, pupil = whites.chosen(shot), blurring.pupil_of(shot)
    focus = focusing.focus_at(shot)
    return {
        **{key: one.value for key, one in given.items()},
        **exposure.glass_of(shot),
        "ev100": own.ev100 if own else None,
        "ev100_of_light": own.light_ev100 if own else None,
        "stops_brighter_than_plate": exposure.brighter(shot) if own else None,
        "focus_m": focus.metres,
        "focus_by": focus.used.says if focus.used else None,
        "shutter": {
            "open_frames": shutter.open_frames,
            "phase": shutter.phase,
            "readout_frames": shutter.readout_frames,
        },
        "blur_shape": pupil.to_json(),
        "white": {"kelvin": white.white.kelvin, "tint": white.white.tint, "by": white.by}
        if white
        else None,
        "look": looks.look_of(shot).to_json(),
        "look_delivered": looks.is_on(shot),
    }


def _json(path: Path, of: Source) -> None:
    state, (first, last) = of.shot.state, span_of(of.shot.state)
    # The shot's own numbers, whatever the recipe is: it can be solved again from them.
    focus, stop = focusing.over_time(of.shot, of.own_frames) if of.over else ({}, {})
    told = {
        "show": of.show.name,
        "shot": of.shot.code,
        "revision": of.shot.head.number,
        "frames": {"first": first, "last": last, "rate": str(of.show.rate)},
        "match": document_of(state),
        "fit": fit_of(state),
        "path": path_fit(state),
        "focus_m": focus,
        "f_number": stop,
        "light": light_json(of.shot),
    }
    path.write_text(json.dumps(told, indent=2))


WRITERS: dict[str, Callable[[Path, Source], None]] = {
    "usda": _usd,
    "usdc": _usd,
    "usdz": _usd,
    "gltf": _gltf,
    "glb": _gltf,
    "dae": _collada,
    "abc": _alembic,
    "opentrackio.jsonl": _open_track,
    "json": _json,
    "csv": _table,
    "obj": _obj,
    "ply": _ply,
    "undistort.exr": _undistort,
    "redistort.exr": _redistort,
    "yaml": _opencv,
    "pdf": _pdf,
    "check.txt": _check,
}
